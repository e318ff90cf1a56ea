// One file through all points, also under the names it had before and afterwards.
#pragma once

#include "engine/version_search.hpp"

namespace kestrum {

// A name of the file, with its versions by the time of their first point, over all drives.
struct NameHistory {
  TreePath path;
  std::vector<FoundVersion> versions;
  // It came from that name, told by its content: the versions of that one come next.
  std::optional<TreePath> moved_from;
  std::optional<TreePath> moved_to;
};

struct FileHistory {
  std::vector<NameHistory> names;  // empty: no point has the path
  std::uint64_t points = 0;
  std::uint64_t pages_read = 0;  // of catalogs
  std::vector<std::string> unread;
};

// Reads of each catalog what leads to the path, and where it came or went what differs between two points.
FileHistory file_history(std::vector<LookSession>& sessions, const TreePath& path, RunControl& control);

}  // namespace kestrum
