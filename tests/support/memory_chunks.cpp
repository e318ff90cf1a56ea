#include "support/memory_chunks.hpp"

namespace kestrum::test {

Entry make_entry(const std::string& path, std::mt19937& random) {
  Entry entry;
  entry.path = *TreePath::parse(path);
  entry.type = static_cast<EntryType>(1 + random() % 8);
  entry.fresh = random() % 2 == 0;
  entry.changed_while_read = random() % 9 == 0;
  entry.incomplete = random() % 9 == 0;
  entry.several_names = random() % 5 == 0;
  entry.above_source = random() % 9 == 0;
  entry.mode = static_cast<std::uint32_t>(random() % 010000);
  entry.owner = static_cast<std::uint32_t>(random());
  entry.group = static_cast<std::uint32_t>(random());
  entry.owner_name = random() % 2 == 0 ? "isla" : "";
  entry.group_name = "wardens";
  entry.modified = {static_cast<std::int64_t>(random()) * 9 - 20000000000,
                    static_cast<std::int32_t>(random() % 1000000000)};
  entry.changed = {static_cast<std::int64_t>(random()), static_cast<std::int32_t>(random() % 1000000000)};
  entry.filesystem = static_cast<std::uint32_t>(random() % 3);
  entry.inode = (std::uint64_t{random()} << 32) | random();
  if (entry.type == EntryType::symlink) entry.link_target = "../\xff target";
  if (entry.type == EntryType::char_device || entry.type == EntryType::block_device)
    entry.device_minor = static_cast<std::uint32_t>(random());
  if (entry.has_content()) {
    for (auto i = random() % 4; i > 0; --i) {
      ContentItem item{static_cast<ItemKind>(1 + random() % 3), random() % 1000000, {}, 0, 0};
      if (item.kind != ItemKind::hole) {
        for (std::uint8_t& byte : item.name.bytes) byte = static_cast<std::uint8_t>(random());
        item.sequence = static_cast<Sequence>(random() % 1000);
      }
      if (item.kind == ItemKind::list) item.list_size = random() % 60000;
      entry.size += item.length;
      entry.content.push_back(item);
    }
  }
  if (random() % 4 == 0) entry.attributes = {{"user.note", std::string("\0\xff", 2)}, {"user.z", ""}};
  if (entry.attributes.empty() && random() % 6 == 0) entry.attribute_chunk = ChunkRef{{}, 5, 9000};
  return entry;
}

}  // namespace kestrum::test
