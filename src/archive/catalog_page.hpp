// Catalog pages: docs/FORMAT.md section 8.
#pragma once

#include "archive/catalog_entry.hpp"

namespace kestrum {

// What an upper page says of a page one level below.
struct PageLink {
  TreePath first;
  ChunkRef page;
  std::uint64_t entries = 0;  // of level 0 below
  std::uint64_t bytes = 0;    // of regular files below
};

struct CatalogPage {
  unsigned level = 0;
  std::vector<Entry> entries;   // level 0
  std::vector<PageLink> links;  // above

  std::size_t size() const { return level == 0 ? entries.size() : links.size(); }
  const TreePath& path_at(std::size_t i) const { return level == 0 ? entries[i].path : links[i].first; }
};

// Throws Error of kind damage when malformed or out of order.
CatalogPage decode_page(ByteView bytes);

// A finished catalog: where its top page is.
struct CatalogTop {
  ChunkRef page;
  unsigned level = 0;
};

}  // namespace kestrum
