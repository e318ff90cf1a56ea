#include "archive/file_view.hpp"

#include <algorithm>

#include "base/error.hpp"

namespace kestrum {

struct FileView::Range {
  std::uint64_t begin = 0, end = 0;
  std::uint64_t& seen;
  const std::function<void(std::uint64_t, ByteView)>& use;
};

std::shared_ptr<const ContentList> FileView::list_below(const ContentItem& item, std::size_t depth) {
  if (depth >= limits::levels) throw damage("a content list is nested too deeply");
  if (kept_.size() <= depth) kept_.resize(depth + 1);
  if (kept_[depth].list && kept_[depth].ref.name == item.name) return kept_[depth].list;
  Bytes chunk = reader_.fetch(item.ref());
  ByteReader in(chunk);
  auto list = std::make_shared<const ContentList>(read_content_list(in, item.length));
  in.expect_end();
  kept_[depth] = {item.ref(), list};
  return list;
}

void FileView::walk(const ContentList& list, std::uint64_t at, std::size_t depth, const Range& range) {
  for (const ContentItem& item : list) {
    if (++range.seen > limits::content_items)
      throw damage("a content list has more items than a file can have");
    std::uint64_t begin = std::max(at, range.begin), end = std::min(at + item.length, range.end);
    if (begin < end && item.kind == ItemKind::list) {
      walk(*list_below(item, depth), at, depth + 1, range);
    } else if (begin < end && item.kind == ItemKind::hole) {
      range.use(end - begin, {});
    } else if (begin < end) {
      ChunkView chunk = reader_.view(item.ref());
      if (chunk.content.size() != item.length) throw damage("a chunk is not as long as its file says");
      range.use(end - begin, chunk.content.subspan(static_cast<std::size_t>(begin - at),
                                                   static_cast<std::size_t>(end - begin)));
    }
    at += item.length;
    if (at >= range.end) return;
  }
}

void FileView::each(std::uint64_t offset, std::uint64_t length,
                    const std::function<void(std::uint64_t, ByteView)>& use) {
  if (offset >= size()) return;
  std::uint64_t seen = 0;
  walk(entry_.content, 0, 0, {offset, offset + std::min(length, size() - offset), seen, use});
}

std::size_t FileView::read_at(std::uint64_t offset, std::span<std::uint8_t> out) {
  std::size_t done = 0;
  each(offset, out.size(), [&](std::uint64_t length, ByteView content) {
    auto part = out.subspan(done, static_cast<std::size_t>(length));
    std::fill(part.begin(), part.end(), std::uint8_t{0});
    std::copy(content.begin(), content.end(), part.begin());
    done += part.size();
  });
  return done;
}

}  // namespace kestrum
