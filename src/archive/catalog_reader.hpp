// Reads a catalog in order, or straight to a path, holding one page a level.
#pragma once

#include <functional>

#include "archive/catalog_page.hpp"
#include "archive/chunk_store.hpp"
#include "base/error.hpp"

namespace kestrum {

// The source must outlive this. Throws Error of kind damage where the catalog does not read.
class CatalogReader {
 public:
  CatalogReader(ChunkSource& source, const CatalogTop& top);

  // Told of every page that is fetched, before it is.
  void on_page(std::function<void(const ChunkRef&)> callback) { on_page_ = std::move(callback); }

  // The next entry; nothing at the end.
  std::optional<Entry> next();
  // When the next entry is the first of a page that was not fetched yet, where that page is, and the first
  // path behind it. Nothing in the middle of a page, at the end, and where the catalog is a single page.
  struct PageAhead {
    PageLink link;
    std::optional<TreePath> until;  // nothing: it is the last
  };
  std::optional<PageAhead> page_ahead();
  // Goes behind the page that page_ahead() has just told of, without fetching it.
  void pass_page();
  // Goes to the first entry that is not before `path`.
  void seek(const TreePath& path);
  // Goes to the first entry behind `folder` and all that is in it.
  void skip_past(const TreePath& folder);
  // First path of what does not read, when known, and of what comes after it.
  struct Gap {
    TreePath from;
    std::optional<TreePath> until;
  };
  // After a damaged page, the reader having thrown: goes on behind it and behind those that follow it and do
  // not read either, all of which are one gap. False when there is nothing left.
  bool pass_damage(Gap& gap);

  // The entry itself, if it is there. Moves the reader.
  std::optional<Entry> find(const TreePath& path);
  // Calls `child` for each direct child of `folder`, in order. Moves the reader. `gap`: told of parts that do
  // not read, which are passed over; none: they are thrown.
  using OnGap = std::function<void(const Gap&, const Error&)>;
  void each_child(const TreePath& folder, const std::function<void(const Entry&)>& child,
                  const OnGap& gap = {});
  // The same for all that is below it.
  void each_below(const TreePath& folder, const std::function<void(const Entry&)>& use,
                  const OnGap& gap = {});
  // All that is in `folder`, itself left out. Reads the pages at its ends, and of those between what the
  // pages above say. Leaves the reader where it is.
  struct Below {
    std::uint64_t entries = 0;
    std::uint64_t bytes = 0;  // of regular files
  };
  Below below(const TreePath& folder);

 private:
  bool skip_damaged_page();
  Gap damaged_range() const;
  // `take`: true to pass what is in a folder.
  void each_of(const TreePath& folder, const std::function<bool(const Entry&)>& take, const OnGap& gap);
  void add_below(const ChunkRef& ref, unsigned level, const TreePath* until, const TreePath& folder,
                 Below& sum);
  struct Open {
    CatalogPage page;
    std::size_t at = 0;
    PagesAhead ahead = {};
  };
  CatalogPage load(const ChunkRef& ref, unsigned level);
  // Opens the page that the open page of the lowest level is at.
  void open_below();
  // Descends from there to level 0.
  void descend();
  // Leaves pages that are at their end.
  void leave_ended();
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
