#include "archive/reachable.hpp"

#include "archive/catalog_page.hpp"
#include "base/error.hpp"

namespace kestrum {

void ReachableChunks::add(PointReader& point, const std::function<void()>& step) {
  const Root& root = point.set().root();
  for (const ChunkRef& ref : {root.record, root.job_file, root.problems}) {
    if (ref.length != 0) names_.put(ref.name, 0);
  }
  add_page(point, root.catalog.page, root.catalog.level, step);
}

void ReachableChunks::add_page(PointReader& point, const ChunkRef& ref, unsigned level,
                               const std::function<void()>& step) {
  if (!is_new_list(ref.name)) return;
  names_.put(ref.name, 0);
  step();
  CatalogPage page = decode_page(point.view(ref).content);
  if (page.level != level || level > limits::levels)
    throw damage("a list of files is not nested as it should be");
  for (const PageLink& link : page.links) add_page(point, link.page, level - 1, step);
  for (const Entry& entry : page.entries) {
    if (entry.attribute_chunk) names_.put(entry.attribute_chunk->name, 0);
    add_content(point, entry.content, 0);
  }
}

void ReachableChunks::add_content(PointReader& point, const ContentList& list, unsigned depth) {
  if (depth > limits::levels) throw damage("a content list is nested too deeply");
  for (const ContentItem& item : list) {
    if (item.kind == ItemKind::hole) continue;
    names_.put(item.name, 0);
    if (item.kind != ItemKind::list || !is_new_list(item.name)) continue;
    Bytes chunk = point.fetch(item.ref());
    ByteReader in(chunk);
    ContentList below = read_content_list(in, item.length);
    in.expect_end();
    add_content(point, below, depth + 1);
  }
}

}  // namespace kestrum
