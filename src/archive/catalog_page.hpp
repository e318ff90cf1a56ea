// Catalog pages: docs/FORMAT.md section 8.
#pragma once

#include "archive/catalog_entry.hpp"
#include "archive/chunk_store.hpp"

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

// Goes through a page of level 0 without making the entries that nobody asks for.
class PageScan {
 public:
  // Throws Error of kind damage, as does `next`, where the page is malformed or out of order.
  explicit PageScan(Bytes page);
  PageScan(const PageScan&) = delete;
  PageScan& operator=(const PageScan&) = delete;
  // To the first, and then to the next; false at the end.
  bool next();
  const std::string& joined() const { return joined_; }  // its path
  const EntryHead& head() const { return head_; }
  Entry entry() const;  // all of it

 private:
  Bytes page_;
  ByteReader in_;
  std::uint64_t left_ = 0;
  std::string before_, joined_;
  EntryHead head_;
  std::size_t start_ = 0;  // of the entry, in the page
  bool any_ = false;
};
// Whether a page of entries has a path, joined, that `fits`. True for any other chunk, and for what does not
// read: whoever looks at it closer will see.
bool has_path(ByteView page, const std::function<bool(const std::string& joined)>& fits);
// The level that a page says it is of.
unsigned level_of_page(ByteView page);

// Of somebody who opens the pages of one upper page: once several came in a row, those that come soon are got
// ready meanwhile.
class PagesAhead {
 public:
  // The page of that link is opened next.
  void opens(const CatalogPage& upper, std::size_t at, ChunkSource& source);

 private:
  std::size_t next_ = 0, in_order_ = 0;
};

// A finished catalog: where its top page is.
struct CatalogTop {
  ChunkRef page;
  unsigned level = 0;
};

}  // namespace kestrum
