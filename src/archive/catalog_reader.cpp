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

void CatalogReader::open_below() {
  Open& open = stack_.back();
  open.ahead.opens(open.page, open.at, source_);
  const PageLink& link = open.page.links[open.at];
  CatalogPage below = load(link.page, open.page.level - 1);
  if (below.size() == 0 || below.path_at(0) != link.first)
    throw damage("a catalog page is not the one that was meant");
  stack_.push_back({std::move(below)});
}

void CatalogReader::descend() {
  if (stack_.empty()) stack_.push_back({load(top_.page, top_.level)});
  while (stack_.back().page.level > 0) open_below();
  started_ = true;
}

void CatalogReader::leave_ended() {
  while (!stack_.empty() && stack_.back().at == stack_.back().page.size()) {
    stack_.pop_back();
    if (!stack_.empty()) ++stack_.back().at;
  }
}

std::optional<CatalogReader::PageAhead> CatalogReader::page_ahead() {
  if (!started_ && stack_.empty()) stack_.push_back({load(top_.page, top_.level)});
  started_ = true;
  leave_ended();
  while (!stack_.empty() && stack_.back().page.level > 1) open_below();
  if (stack_.empty() || stack_.back().page.level == 0) return std::nullopt;
  const Open& open = stack_.back();
  PageAhead ahead{open.page.links[open.at], {}};
  // Of the lowest level that has a page behind it.
  for (auto level = stack_.rbegin(); level != stack_.rend() && !ahead.until; ++level) {
    if (level->at + 1 < level->page.size()) ahead.until = level->page.path_at(level->at + 1);
  }
  return ahead;
}

void CatalogReader::pass_page() {
  Open& open = stack_.back();
  const TreePath& first = open.page.links[open.at].first;
  if (any_ && !(last_ < first)) throw damage("the catalog is out of order");
  last_ = first;
  any_ = true;
  ++open.at;
}

std::optional<Entry> CatalogReader::next() {
  if (!started_) descend();
  for (leave_ended(); !stack_.empty(); leave_ended()) {
    Open& open = stack_.back();
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
  stack_.push_back({load(top_.page, top_.level)});
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
    open_below();
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

bool CatalogReader::pass_damage(Gap& gap) {
  gap = damaged_range();
  while (skip_damaged_page()) {
    try {
      leave_ended();
      if (!stack_.empty() && stack_.back().page.level > 0) descend();
      return true;
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      gap.until = damaged_range().until;
    }
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

// `until`: the first path behind that page, nullptr where none is.
void CatalogReader::add_below(const ChunkRef& ref, unsigned level, const TreePath* until,
                              const TreePath& folder, Below& sum) {
  const CatalogPage page = load(ref, level);
  for (const Entry& entry : page.entries) {
    if (entry.path == folder || !entry.path.is_within(folder)) continue;
    ++sum.entries;
    if (entry.has_content()) sum.bytes += entry.size;
  }
  for (std::size_t i = 0; i < page.links.size(); ++i) {
    const PageLink& link = page.links[i];
    const TreePath* const next = i + 1 < page.links.size() ? &page.links[i + 1].first : until;
    const bool begins_inside = link.first != folder && link.first.is_within(folder);
    if (next != nullptr && !(folder < *next)) continue;  // before it
    if (folder < link.first && !begins_inside) return;   // behind it
    if (begins_inside && next != nullptr && next->is_within(folder)) {
      sum.entries += link.entries;
      sum.bytes += link.bytes;
    } else {
      add_below(link.page, level - 1, next, folder, sum);
    }
  }
}

CatalogReader::Below CatalogReader::below(const TreePath& folder) {
  Below sum;
  add_below(top_.page, top_.level, nullptr, folder, sum);
  return sum;
}

void CatalogReader::each_of(const TreePath& folder, const std::function<bool(const Entry&)>& take,
                            const OnGap& gap) {
  bool begun = false;
  while (true) {
    try {
      if (!begun) {
        begun = true;
        seek(folder);
      }
      const std::optional<Entry> entry = next();
      if (!entry || !entry->path.is_within(folder)) return;
      const bool pass_it = entry->path != folder && take(*entry);
      if (pass_it) skip_past(entry->path);
    } catch (const Error& error) {
      if (!gap || !does_not_read(error)) throw;
      Gap missing;
      const bool more = pass_damage(missing);
      gap(missing, error);
      if (!more) return;
    }
  }
}

void CatalogReader::each_child(const TreePath& folder, const std::function<void(const Entry&)>& child,
                               const OnGap& gap) {
  const auto take = [&](const Entry& entry) {
    // Behind a gap what comes first may stand deeper.
    if (entry.path.parent() == folder) child(entry);
    return entry.type == EntryType::folder;
  };
  each_of(folder, take, gap);
}

void CatalogReader::each_below(const TreePath& folder, const std::function<void(const Entry&)>& use,
                               const OnGap& gap) {
  const auto take = [&](const Entry& entry) {
    use(entry);
    return false;
  };
  each_of(folder, take, gap);
}

}  // namespace kestrum
