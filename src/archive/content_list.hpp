// Content lists of any length in bounded memory: docs/FORMAT.md section 8, "content list item".
#pragma once

#include <functional>

#include "archive/catalog_entry.hpp"
#include "archive/chunk_store.hpp"

namespace kestrum {

// Add the stretches of one file in order; `finish` gives the list for its entry. The sink must outlive this.
class ContentListBuilder {
 public:
  static constexpr std::size_t inline_limit = 4u << 10;
  explicit ContentListBuilder(ChunkSink& sink) : sink_(sink) {}
  void add(const ContentItem& item);
  ContentList finish();
  // Added so far; a reader takes no more than limits::content_items.
  std::uint64_t count() const { return count_; }

 private:
  struct Level {
    ContentList items;
    std::size_t encoded = 0;
  };
  void add_at(std::size_t level, const ContentItem& item);
  void flush(std::size_t level);
  ChunkSink& sink_;
  std::vector<Level> levels_;
  std::uint64_t count_ = 0;
};

// Calls `item` for every data chunk and hole in order, and `list` for each list chunk before it is read;
// follows list chunks through `source`. Either may be empty.
void walk_content(const ContentList& list, ChunkSource& source,
                  const std::function<void(const ContentItem&)>& item,
                  const std::function<void(const ContentItem&)>& on_list = {});

}  // namespace kestrum
