#include "archive/content_list.hpp"

#include "base/error.hpp"

namespace kestrum {
namespace {

constexpr std::size_t list_chunk_limit = 64u << 10;

std::size_t encoded_size(const ContentItem& item) {
  return item.kind == ItemKind::hole ? 6 : 42;
}

bool is_boundary(const ContentItem& item) {
  return item.name.bytes[31] % 64 == 0;
}

void walk_level(const ContentList& list, ChunkSource& source, unsigned depth, std::uint64_t& seen,
                const std::function<void(const ContentItem&)>& item,
                const std::function<void(const ContentItem&)>& on_list) {
  if (depth > limits::levels) throw damage("a content list is nested too deeply");
  for (const ContentItem& one : list) {
    if (++seen > limits::content_items) throw damage("a content list has more items than a file can have");
    if (one.kind != ItemKind::list) {
      if (item) item(one);
      continue;
    }
    if (on_list) on_list(one);
    Bytes chunk = source.fetch(one.ref());
    ByteReader in(chunk);
    ContentList below = read_content_list(in, one.length);
    in.expect_end();
    walk_level(below, source, depth + 1, seen, item, on_list);
  }
}

}  // namespace

void ContentListBuilder::add(const ContentItem& item) {
  ++count_;
  add_at(0, item);
}

void ContentListBuilder::add_at(std::size_t level, const ContentItem& item) {
  if (level == levels_.size()) levels_.emplace_back();
  levels_[level].items.push_back(item);
  levels_[level].encoded += encoded_size(item);
  std::size_t encoded = levels_[level].encoded;
  if ((encoded > inline_limit && is_boundary(item)) || encoded > list_chunk_limit) flush(level);
}

void ContentListBuilder::flush(std::size_t level) {
  Level full = std::exchange(levels_[level], {});
  if (full.items.empty()) return;
  ByteWriter out;
  write_content_list(out, full.items);
  ContentItem up{.kind = ItemKind::list, .length = 0, .name = {}, .sequence = 0, .list_size = out.size()};
  for (const ContentItem& item : full.items) up.length += item.length;
  ChunkRef ref = sink_.put(FrameKind::catalog, out.view());
  up.name = ref.name;
  up.sequence = ref.sequence;
  add_at(level + 1, up);
}

ContentList ContentListBuilder::finish() {
  std::size_t level = 0;
  while (level + 1 < levels_.size() || (level < levels_.size() && levels_[level].encoded > inline_limit)) {
    flush(level);
    ++level;
  }
  ContentList top = levels_.empty() ? ContentList{} : std::move(levels_.back().items);
  levels_.clear();
  return top;
}

void walk_content(const ContentList& list, ChunkSource& source,
                  const std::function<void(const ContentItem&)>& item,
                  const std::function<void(const ContentItem&)>& on_list) {
  std::uint64_t seen = 0;
  walk_level(list, source, 0, seen, item, on_list);
}

}  // namespace kestrum
