// Reads a catalog in order, or straight to a path, holding one page a level.
#pragma once

#include <functional>

#include "archive/catalog_page.hpp"
#include "archive/chunk_store.hpp"

namespace kestrum {

// The source must outlive this. Throws Error of kind damage where the catalog does not read.
class CatalogReader {
 public:
  CatalogReader(ChunkSource& source, const CatalogTop& top);

  // Told of every page that is fetched, before it is.
  void on_page(std::function<void(const ChunkRef&)> callback) { on_page_ = std::move(callback); }

  // The next entry; nothing at the end.
  std::optional<Entry> next();
  // Goes to the first entry that is not before `path`.
  void seek(const TreePath& path);
  // Goes to the first entry behind `folder` and all that is in it.
  void skip_past(const TreePath& folder);
  // After a damaged page: goes on behind it. False when there is nothing left. The reader must have thrown.
  bool skip_damaged_page();
  // First path of the damaged page, when known, and of what comes after it.
  struct Gap {
    TreePath from;
    std::optional<TreePath> until;
  };
  Gap damaged_range() const;

  // The entry itself, if it is there. Moves the reader.
  std::optional<Entry> find(const TreePath& path);
  // Calls `child` for each direct child of `folder`, in order. Moves the reader.
  void each_child(const TreePath& folder, const std::function<void(const Entry&)>& child);

 private:
  struct Open {
    CatalogPage page;
    std::size_t at = 0;
  };
  CatalogPage load(const ChunkRef& ref, unsigned level);
  // Descends from the open page of the lowest level to level 0.
  void descend();
  // First position whose path does not satisfy `before`, a monotone condition.
  void seek_where(const std::function<bool(const TreePath&)>& before);

  ChunkSource& source_;
  CatalogTop top_;
  std::function<void(const ChunkRef&)> on_page_;
  std::vector<Open> stack_;  // top first
  bool started_ = false;
  TreePath last_;
  bool any_ = false;
};

}  // namespace kestrum
