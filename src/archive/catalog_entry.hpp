// One entry of a catalog, and its encoding: docs/FORMAT.md section 8.
#pragma once

#include "archive/chunk_types.hpp"
#include "base/tree_path.hpp"

namespace kestrum {

enum class EntryType : std::uint8_t {
  folder = 1,
  file = 2,
  symlink = 3,
  fifo = 4,
  char_device = 5,
  block_device = 6,
  socket = 7,
  device_image = 8,
};
std::string_view entry_type_name(EntryType type);

enum class ItemKind : std::uint8_t { data = 1, hole = 2, list = 3 };

// A stretch of a file: a chunk, a hole, or a list chunk that says more.
struct ContentItem {
  ItemKind kind = ItemKind::data;
  std::uint64_t length = 0;  // of the file
  ChunkName name;
  Sequence sequence = 0;
  std::uint64_t list_size = 0;  // of the list chunk's content
  ChunkRef ref() const { return {name, sequence, kind == ItemKind::list ? list_size : length}; }
  bool operator==(const ContentItem&) const = default;
};
using ContentList = std::vector<ContentItem>;

struct Attribute {
  std::string name;
  std::string value;
  bool operator==(const Attribute&) const = default;
};

struct Entry {
  TreePath path;
  EntryType type = EntryType::file;
  bool above_source = false;
  bool fresh = false;
  bool changed_while_read = false;
  bool incomplete = false;
  bool several_names = false;
  std::uint32_t mode = 0;  // twelve permission bits
  std::uint32_t owner = 0;
  std::uint32_t group = 0;
  std::string owner_name;
  std::string group_name;
  Instant modified;
  Instant changed;  // status change
  std::uint64_t size = 0;
  std::uint32_t filesystem = 0;  // ordinal
  std::uint64_t inode = 0;
  std::string link_target;
  std::uint32_t device_major = 0;
  std::uint32_t device_minor = 0;
  ContentList content;
  std::vector<Attribute> attributes;
  std::optional<ChunkRef> attribute_chunk;  // instead of `attributes`
  // It could not be read; all of this is as the point of that moment has it.
  std::optional<Instant> carried_from;

  bool has_content() const { return type == EntryType::file || type == EntryType::device_image; }
};

// `previous`: joined path of the entry before in the page, empty for the first.
void write_entry(ByteWriter& out, const Entry& entry, const std::string& previous);
Entry read_entry(ByteReader& in, const std::string& previous);

// What a search looks at of an entry.
struct EntryHead {
  EntryType type = EntryType::file;
  Instant modified;
  std::uint64_t size = 0;  // of a file or an image of a device
};
// Goes behind an entry whose path was read already. What is not asked for is passed over unchecked.
EntryHead pass_entry(ByteReader& in);

void write_path(ByteWriter& out, const std::string& joined, const std::string& previous);
TreePath read_path(ByteReader& in, const std::string& previous);
// The same in place: `joined` is the path before, and becomes this one.
void read_next_path(ByteReader& in, std::string& joined);

void write_content_list(ByteWriter& out, const ContentList& list);
// The items' lengths must add up to `length`.
ContentList read_content_list(ByteReader& in, std::uint64_t length);

void write_attributes(ByteWriter& out, const std::vector<Attribute>& attributes);
std::vector<Attribute> read_attributes(ByteReader& in);

}  // namespace kestrum
