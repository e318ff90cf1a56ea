// Two points, or a point and the disk as it is now: what was added, went, changed, or moved.
#pragma once

#include <map>

#include "engine/point_difference.hpp"
#include "source/selection.hpp"

namespace kestrum {

// One thing that differs, for people and programs.
struct TreeChange {
  Differs how = Differs::added;
  Entry entry;                               // as it is now; of what is gone as it was
  std::optional<Entry> before;               // of changed, attributes, moved: as it was
  bool with_folder = false;                  // it moved together with a folder that moved
  std::uint64_t moved_along = 0;             // of a folder that moved: files that moved with it
  std::vector<std::string> attributes = {};  // of attributes: what differs: "mode", "owner", "time", ...
};

struct TreeComparison {
  std::map<Differs, std::uint64_t> files;                            // no folders
  std::uint64_t folders = 0;                                         // that were added, went or moved
  std::uint64_t bytes_added = 0, bytes_gone = 0, bytes_changed = 0;  // of files; changed: their size now
  std::uint64_t pages_read = 0;                                      // of catalogs
  std::vector<std::string> findings;                                 // parts of a catalog that do not read
  std::vector<Problem> problems;  // what could not be looked at on the disk
  bool any() const { return folders > 0 || !files.empty(); }
};

// Called in the order of the paths. Folders count when they were added, went, moved, or have another mode or
// owner. What moved is told by content, size and name or, on one file system, by number; looked for among the
// first two hundred thousand things that were added or went.
using OnTreeChange = std::function<void(const TreeChange&)>;

// From `a` to `b`. They may be of different drives: content then counts as the same where size and time are.
TreeComparison compare_points(OpenPoint& a, OpenPoint& b, const TreePath& within, RunControl& control,
                              const OnTreeChange& use);

// From `a` to the disk of this machine now. `selection`: what counts there. A file of the same size, and
// of the same times also of its last change of any kind, counts as the same; one of which only those are
// others is read and held against the point.
TreeComparison compare_with_disk(OpenPoint& a, const Selection& selection, const TreePath& within,
                                 RunControl& control, const OnTreeChange& use);

}  // namespace kestrum
