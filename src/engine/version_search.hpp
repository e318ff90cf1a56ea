// Files through all points: every version of them, and where something was last.
#pragma once

#include "engine/look.hpp"
#include "engine/name_query.hpp"
#include "engine/point_merge.hpp"

namespace kestrum {

// What became of a version after the last point that has it.
enum class AfterVersion { still_there, changed, gone };

// One state of one thing, in one or more points of one drive.
struct FoundVersion {
  std::size_t session = 0;  // of those that were searched: the drive
  Entry entry;
  std::vector<Sequence> points;  // that have it, in order
  Instant first, last;           // start of the first and of the last of them
  AfterVersion after = AfterVersion::still_there;
  Instant since;                     // start of the point after the last, where it was changed or gone
  std::optional<Sequence> followed;  // that point
  // Start of the point before the first, which does not have this version; none: the first has it.
  std::optional<Instant> before;
  std::optional<Sequence> preceded;
};

// What makes two entries of one path the same version: kind and content, and when it was modified; of a
// folder only that it is there. Within one naming key.
Digest version_of(const Entry& entry);

struct VersionSearch {
  std::uint64_t points = 0;         // that were looked through
  std::uint64_t pages_read = 0;     // of their catalogs
  std::vector<std::string> unread;  // points that could not be looked through, or not in full, and why
};

struct VersionScope {
  TreePath within = {};                // this and all below it
  std::optional<PointWish> only = {};  // of the first session: the point that this means
};

// Told of each path that fits, in the order of the paths: all its versions, by drive, then from the oldest.
// Points that were given up are left out. Pages of the catalogs that points have in common are read once.
using OnVersions = std::function<void(std::vector<FoundVersion>)>;
VersionSearch find_versions(std::vector<LookSession>& sessions, const NameQuery& query,
                            const VersionScope& scope, RunControl& control, const OnVersions& found);

// Of all points, what is called nearly as the last part of a path is: the likeliest first, at most `most`.
// What a person calls half, or with a slip of a finger.
std::vector<TreePath> nearest_paths(std::vector<LookSession>& sessions, const TreePath& path,
                                    std::size_t most, RunControl& control);

// The newest point of all drives that has that path.
struct LastSeen {
  std::size_t session = 0;
  SetFacts point;
  std::optional<SetFacts> without;  // the first later point on that drive
};
std::optional<LastSeen> last_seen(std::vector<LookSession>& sessions, const TreePath& path);

}  // namespace kestrum
