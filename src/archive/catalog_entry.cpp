#include "archive/catalog_entry.hpp"

#include <algorithm>

#include "base/error.hpp"

namespace kestrum {
namespace {

enum Flag : std::uint64_t {
  flag_above_source = 1u << 0,
  flag_fresh = 1u << 1,
  flag_changed = 1u << 2,
  flag_incomplete = 1u << 3,
  flag_several_names = 1u << 4,
  flag_attributes = 1u << 5,
  flag_attribute_chunk = 1u << 6,
  flag_carried = 1u << 7,
  flag_all = (1u << 8) - 1,
};

std::uint64_t flags_of(const Entry& entry) {
  std::uint64_t flags = 0;
  if (entry.above_source) flags |= flag_above_source;
  if (entry.fresh) flags |= flag_fresh;
  if (entry.changed_while_read) flags |= flag_changed;
  if (entry.incomplete) flags |= flag_incomplete;
  if (entry.several_names) flags |= flag_several_names;
  if (entry.attribute_chunk) flags |= flag_attribute_chunk;
  if (!entry.attribute_chunk && !entry.attributes.empty()) flags |= flag_attributes;
  if (entry.carried_from) flags |= flag_carried;
  return flags;
}

void write_time(ByteWriter& out, Instant when) {
  out.signed_varint(when.seconds);
  out.varint(static_cast<std::uint64_t>(when.nanoseconds));
}

Instant read_time(ByteReader& in) {
  Instant when;
  when.seconds = in.signed_varint();
  std::uint64_t nanoseconds = in.varint();
  if (nanoseconds > 999999999) throw damage("a time is malformed");
  when.nanoseconds = static_cast<std::int32_t>(nanoseconds);
  return when;
}

std::uint32_t read_u32_varint(ByteReader& in) {
  std::uint64_t value = in.varint();
  if (value > 0xffffffff) throw damage("a number is beyond its limit");
  return static_cast<std::uint32_t>(value);
}

constexpr std::uint64_t name_limit = 65536;
constexpr std::uint64_t attribute_limit = 1u << 20;

void pass_content_list(ByteReader& in) {
  const std::uint64_t count = in.varint();
  if (count > in.remaining()) throw damage("a content list is longer than its place");
  for (std::uint64_t i = 0; i < count; ++i) {
    const auto kind = static_cast<ItemKind>(in.u8());
    in.varint();
    if (kind == ItemKind::hole) continue;
    in.raw(sizeof ChunkName::bytes);
    in.varint();
    if (kind == ItemKind::list) in.varint();
  }
}

}  // namespace

std::string_view entry_type_name(EntryType type) {
  switch (type) {
    case EntryType::folder:
      return "folder";
    case EntryType::file:
      return "file";
    case EntryType::symlink:
      return "link";
    case EntryType::fifo:
      return "fifo";
    case EntryType::char_device:
      return "character device";
    case EntryType::block_device:
      return "block device";
    case EntryType::socket:
      return "socket";
    case EntryType::device_image:
      return "device image";
  }
  return "?";
}

void write_path(ByteWriter& out, const std::string& joined, const std::string& previous) {
  std::size_t shared = common_length(joined, previous);
  out.varint(shared);
  out.text(std::string_view(joined).substr(shared));
}

void read_next_path(ByteReader& in, std::string& joined) {
  std::uint64_t shared = in.varint();
  if (shared > joined.size()) throw damage("a path shares more than there is");
  std::string_view rest = as_text(in.bytes(limits::path));
  if (shared + rest.size() > limits::path) throw damage("a path in the catalog is none");
  joined.resize(shared);
  joined += rest;
  bool deep = joined.size() > most_path_levels &&
              static_cast<std::size_t>(std::count(joined.begin(), joined.end(), '/')) >= most_path_levels;
  if (deep) throw damage("a path in the catalog has more levels than one can have");
  if (!TreePath::is_proper(joined, shared)) throw damage("a path in the catalog is none");
}

TreePath read_path(ByteReader& in, const std::string& previous) {
  std::string joined = previous;
  read_next_path(in, joined);
  const std::size_t known = joined.size();
  return *TreePath::continued(std::move(joined), known);
}

void write_content_list(ByteWriter& out, const ContentList& list) {
  out.varint(list.size());
  for (const ContentItem& item : list) {
    out.u8(static_cast<std::uint8_t>(item.kind));
    out.varint(item.length);
    if (item.kind == ItemKind::hole) continue;
    out.raw(item.name.bytes);
    out.varint(item.sequence);
    if (item.kind == ItemKind::list) out.varint(item.list_size);
  }
}

ContentList read_content_list(ByteReader& in, std::uint64_t length) {
  std::uint64_t count = in.varint();
  if (count > in.remaining()) throw damage("a content list is longer than its place");
  ContentList list;
  list.reserve(count);
  std::uint64_t sum = 0;
  for (std::uint64_t i = 0; i < count; ++i) {
    ContentItem item;
    std::uint8_t kind = in.u8();
    if (kind < 1 || kind > 3) throw damage("a content list holds an unknown item");
    item.kind = static_cast<ItemKind>(kind);
    item.length = in.varint();
    if (item.length == 0) throw damage("a content list holds an item of no length");
    if (item.length > length - sum) throw damage("a content list is longer than its file");
    sum += item.length;
    if (item.kind != ItemKind::hole) {
      item.name = read_name(in);
      item.sequence = read_u32_varint(in);
    }
    if (item.kind == ItemKind::list) item.list_size = in.varint();
    if (item.kind != ItemKind::hole && item.ref().length > limits::chunk)
      throw damage("a chunk is larger than it can be");
    list.push_back(item);
  }
  if (sum != length) throw damage("a content list is shorter than its file");
  return list;
}

void write_attributes(ByteWriter& out, const std::vector<Attribute>& attributes) {
  out.varint(attributes.size());
  for (const Attribute& attribute : attributes) {
    out.text(attribute.name);
    out.text(attribute.value);
  }
}

std::vector<Attribute> read_attributes(ByteReader& in) {
  std::uint64_t count = in.varint();
  if (count > in.remaining()) throw damage("an attribute list is longer than its place");
  std::vector<Attribute> attributes;
  for (std::uint64_t i = 0; i < count; ++i) {
    std::string name = in.text(name_limit);
    attributes.push_back({std::move(name), in.text(attribute_limit)});
  }
  return attributes;
}

void write_entry(ByteWriter& out, const Entry& entry, const std::string& previous) {
  write_path(out, entry.path.joined(), previous);
  out.u8(static_cast<std::uint8_t>(entry.type));
  std::uint64_t flags = flags_of(entry);
  out.varint(flags);
  out.varint(entry.mode);
  out.varint(entry.owner);
  out.varint(entry.group);
  out.text(entry.owner_name);
  out.text(entry.group_name);
  write_time(out, entry.modified);
  write_time(out, entry.changed);
  out.varint(entry.has_content() ? entry.size : 0);
  out.varint(entry.filesystem);
  out.varint(entry.inode);
  if (entry.type == EntryType::symlink) out.text(entry.link_target);
  if (entry.type == EntryType::char_device || entry.type == EntryType::block_device) {
    out.varint(entry.device_major);
    out.varint(entry.device_minor);
  }
  if (entry.has_content()) write_content_list(out, entry.content);
  if ((flags & flag_attributes) != 0) write_attributes(out, entry.attributes);
  if ((flags & flag_attribute_chunk) != 0) write_ref(out, *entry.attribute_chunk);
  if (entry.carried_from) write_time(out, *entry.carried_from);
}

EntryHead pass_entry(ByteReader& in) {
  EntryHead head;
  const std::uint8_t type = in.u8();
  if (type < 1 || type > 8) throw damage("the catalog holds an unknown type of entry");
  head.type = static_cast<EntryType>(type);
  const std::uint64_t flags = in.varint();
  for (int number = 0; number < 3; ++number) in.varint();  // mode, owner, group
  in.bytes(name_limit);
  in.bytes(name_limit);
  head.modified = read_time(in);
  read_time(in);
  head.size = in.varint();
  in.varint();
  in.varint();
  if (head.type == EntryType::symlink) in.bytes(name_limit);
  if (head.type == EntryType::char_device || head.type == EntryType::block_device) {
    in.varint();
    in.varint();
  }
  if (head.type == EntryType::file || head.type == EntryType::device_image) pass_content_list(in);
  if ((flags & flag_attributes) != 0) read_attributes(in);
  if ((flags & flag_attribute_chunk) != 0) read_ref(in);
  if ((flags & flag_carried) != 0) read_time(in);
  return head;
}

Entry read_entry(ByteReader& in, const std::string& previous) {
  Entry entry;
  entry.path = read_path(in, previous);
  std::uint8_t type = in.u8();
  if (type < 1 || type > 8) throw damage("the catalog holds an unknown type of entry");
  entry.type = static_cast<EntryType>(type);
  std::uint64_t flags = in.varint();
  if ((flags & ~std::uint64_t{flag_all}) != 0) throw damage("the catalog holds an unknown mark");
  entry.above_source = (flags & flag_above_source) != 0;
  entry.fresh = (flags & flag_fresh) != 0;
  entry.changed_while_read = (flags & flag_changed) != 0;
  entry.incomplete = (flags & flag_incomplete) != 0;
  entry.several_names = (flags & flag_several_names) != 0;
  std::uint64_t mode = in.varint();
  if (mode > 07777) throw damage("an entry's mode is beyond its limit");
  entry.mode = static_cast<std::uint32_t>(mode);
  entry.owner = read_u32_varint(in);
  entry.group = read_u32_varint(in);
  entry.owner_name = in.text(name_limit);
  entry.group_name = in.text(name_limit);
  entry.modified = read_time(in);
  entry.changed = read_time(in);
  entry.size = in.varint();
  entry.filesystem = read_u32_varint(in);
  entry.inode = in.varint();
  if (entry.type == EntryType::symlink) entry.link_target = in.text(name_limit);
  if (entry.type == EntryType::char_device || entry.type == EntryType::block_device) {
    entry.device_major = read_u32_varint(in);
    entry.device_minor = read_u32_varint(in);
  }
  if (entry.has_content()) entry.content = read_content_list(in, entry.size);
  if ((flags & flag_attributes) != 0) entry.attributes = read_attributes(in);
  if ((flags & flag_attribute_chunk) != 0) entry.attribute_chunk = read_ref(in);
  if ((flags & flag_carried) != 0) entry.carried_from = read_time(in);
  return entry;
}

}  // namespace kestrum
