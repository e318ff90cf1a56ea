// What a search, or the versions of a file, show in a picker.
#pragma once

#include "cli/picker_point.hpp"

namespace kestrum {

// One line: a path, in some point.
struct PickerHit {
  TreePath path;
  std::string left, right;
  std::size_t place = 0;  // of the points
};
struct PickerHits {
  std::vector<PickerHit> hits;
  bool unread = false;  // a part of what was to be looked through does not read
};
inline constexpr std::size_t most_picker_hits = 1000;

// The name first: that is what is looked for, and a long path is cut at its end.
std::string name_and_folder(const TreePath& path, bool folder);

// In the open point; in all of them, each version once. `wanted`: as NameQuery takes it.
PickerHits found_here(PickerPoints& points, const std::string& wanted);
PickerHits found_everywhere(PickerPoints& points, const std::string& wanted);
// The newest first, those under earlier names behind.
PickerHits versions_of(PickerPoints& points, const TreePath& path);

}  // namespace kestrum
