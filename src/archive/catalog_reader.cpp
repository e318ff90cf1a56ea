#include "archive/catalog_reader.hpp"

#include <algorithm>

#include "base/error.hpp"

namespace kestrum {

CatalogReader::CatalogReader(ChunkSource& source, const CatalogTop& top) : source_(source), top_(top) {
  if (top.level > limits::levels) throw damage("the catalog has too many levels");
}

CatalogPage CatalogReader::load(const ChunkRef& ref, unsigned level) {
  if (on_page_) on_page_(ref);
  CatalogPage page = decode_page(source_.fetch(ref));
  if (page.level != level) throw damage("a catalog page stands at the wrong level");
  return page;
}

void CatalogReader::descend() {
  if (stack_.empty()) stack_.push_back({load(top_.page, top_.level), 0});
  while (stack_.back().page.level > 0) {
    const Open& open = stack_.back();
    const PageLink& link = open.page.links[open.at];
    CatalogPage below = load(link.page, open.page.level - 1);
    if (below.size() == 0 || below.path_at(0) != link.first)
      throw damage("a catalog page is not the one that was meant");
    stack_.push_back({std::move(below), 0});
  }
  started_ = true;
}

std::optional<Entry> CatalogReader::next() {
  if (!started_) descend();
  while (!stack_.empty()) {
    Open& open = stack_.back();
    if (open.at == open.page.size()) {
      stack_.pop_back();
      if (!stack_.empty()) ++stack_.back().at;
      continue;
    }
    if (open.page.level > 0) {
      descend();
      continue;
    }
    Entry entry = std::move(open.page.entries[open.at++]);
    if (any_ && !(last_ < entry.path)) throw damage("the catalog is out of order");
    last_ = entry.path;
    any_ = true;
    return entry;
  }
  return std::nullopt;
}

void CatalogReader::seek_where(const std::function<bool(const TreePath&)>& before) {
  any_ = false;
  stack_.clear();
  stack_.push_back({load(top_.page, top_.level), 0});
  while (true) {
    Open& open = stack_.back();
    std::size_t at = 0;
    std::size_t end = open.page.size();
    while (at < end) {
      std::size_t middle = (at + end) / 2;
      (before(open.page.path_at(middle)) ? at : end) =
          before(open.page.path_at(middle)) ? middle + 1 : middle;
    }
    started_ = true;
    if (open.page.level == 0) {
      open.at = at;
      return;
    }
    // The wanted entry may be inside the last page that starts before it.
    open.at = at == 0 ? 0 : at - 1;
    const PageLink& link = open.page.links[open.at];
    CatalogPage below = load(link.page, open.page.level - 1);
    if (below.size() == 0 || below.path_at(0) != link.first)
      throw damage("a catalog page is not the one that was meant");
    stack_.push_back({std::move(below), 0});
  }
}

void CatalogReader::seek(const TreePath& path) {
  seek_where([&](const TreePath& candidate) { return candidate < path; });
}

void CatalogReader::skip_past(const TreePath& folder) {
  // When the next position is in the page at hand, the pages above need not be read again.
  if (!stack_.empty() && stack_.back().page.level == 0) {
    Open& open = stack_.back();
    if (open.page.size() > 0 && !open.page.path_at(open.page.size() - 1).is_within(folder) &&
        folder < open.page.path_at(open.page.size() - 1)) {
      while (open.at < open.page.size() && open.page.path_at(open.at).is_within(folder)) ++open.at;
      return;
    }
  }
  seek_where([&](const TreePath& candidate) { return candidate < folder || candidate.is_within(folder); });
}

bool CatalogReader::skip_damaged_page() {
  any_ = false;
  started_ = true;
  while (!stack_.empty()) {
    Open& open = stack_.back();
    if (open.page.level > 0 && open.at + 1 < open.page.size()) {
      ++open.at;
      return true;
    }
    if (open.page.level == 0 && open.at < open.page.size()) return true;
    stack_.pop_back();
  }
  return false;
}

CatalogReader::Gap CatalogReader::damaged_range() const {
  Gap gap;
  for (const Open& open : stack_) {
    if (open.page.level == 0 || open.at >= open.page.size()) continue;
    gap.from = open.page.links[open.at].first;
    if (open.at + 1 < open.page.size()) gap.until = open.page.links[open.at + 1].first;
  }
  return gap;
}

std::optional<Entry> CatalogReader::find(const TreePath& path) {
  seek(path);
  std::optional<Entry> entry = next();
  if (entry && entry->path == path) return entry;
  return std::nullopt;
}

void CatalogReader::each_child(const TreePath& folder, const std::function<void(const Entry&)>& child) {
  seek(folder);
  while (std::optional<Entry> entry = next()) {
    if (!entry->path.is_within(folder)) return;
    if (entry->path == folder) continue;
    child(*entry);
    if (entry->type == EntryType::folder) skip_past(entry->path);
  }
}

}  // namespace kestrum
