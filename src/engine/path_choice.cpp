#include "engine/path_choice.hpp"

#include <algorithm>

namespace kestrum {

PathChoice::PathChoice(const std::vector<TreePath>& taken, const std::vector<TreePath>& left_out) {
  for (const TreePath& path : taken) marks_[path] = true;
  for (const TreePath& path : left_out) marks_[path] = false;
  // One that says what the one above it says already says nothing.
  for (auto mark = marks_.begin(); mark != marks_.end();) {
    const bool said = !mark->first.is_root() && above(mark->first) == mark->second;
    mark = said ? marks_.erase(mark) : std::next(mark);
  }
}

bool PathChoice::above(const TreePath& path) const {
  return !path.is_root() && holds(path.parent());
}

bool PathChoice::holds(const TreePath& path) const {
  if (marks_.empty()) return false;
  for (TreePath at = path;; at = at.parent()) {
    if (const auto mark = marks_.find(at); mark != marks_.end()) return mark->second;
    if (at.is_root()) return false;
  }
}

bool PathChoice::differs_below(const TreePath& path) const {
  const auto next = marks_.upper_bound(path);
  return next != marks_.end() && next->first.is_within(path);
}

void PathChoice::mark(const TreePath& path, bool taken) {
  for (auto mark = marks_.lower_bound(path); mark != marks_.end() && mark->first.is_within(path);)
    mark = marks_.erase(mark);
  if (above(path) != taken) marks_[path] = taken;
}

std::vector<TreePath> PathChoice::marked(bool taken) const {
  std::vector<TreePath> out;
  for (const auto& [path, takes] : marks_) {
    if (takes == taken) out.push_back(path);
  }
  return out;
}

CatalogReader::Below chosen_sum(CatalogReader catalog, const PathChoice& choice) {
  CatalogReader::Below sum;
  for (const auto& [path, taken] : choice.marks()) {
    CatalogReader::Below one;
    const std::optional<Entry> entry = path.is_root() ? std::nullopt : catalog.find(path);
    if (path.is_root() || (entry && entry->type == EntryType::folder)) {
      one = catalog.below(path);
      one.entries += path.is_root() ? 0 : 1;
    } else if (entry) {
      one = {1, entry->has_content() ? entry->size : 0};
    }
    sum.entries += taken ? one.entries : 0 - one.entries;
    sum.bytes += taken ? one.bytes : 0 - one.bytes;
  }
  return sum;
}

}  // namespace kestrum
