// Which chunks points refer to: pages of their lists, lists of content, attributes, content.
#pragma once

#include <unordered_set>

#include "archive/chain_reader.hpp"
#include "archive/name_table.hpp"

namespace kestrum {

// Adds up what several points refer to. A page that points share is read once. About 24 bytes a chunk, and 40
// a page of a list.
class ReachableChunks {
 public:
  // Throws damage where the point's list does not read: then what it refers to is not known.
  // `step` is called now and then; it may throw to stop.
  void add(PointReader& point, const std::function<void()>& step);
  // A "yes" may be wrong once in a great many; a "no" never is.
  bool contains(const ChunkName& name) const { return names_.find(name).has_value(); }

 private:
  void add_page(PointReader& point, const ChunkRef& ref, unsigned level, const std::function<void()>& step);
  void add_content(PointReader& point, const ContentList& list, unsigned depth);
  // True when it was not known before.
  bool is_new_list(const ChunkName& name) { return lists_.insert(name).second; }

  NameTable names_;
  std::unordered_set<ChunkName, ChunkNameHash> lists_;  // pages and lists that were gone through
};

}  // namespace kestrum
