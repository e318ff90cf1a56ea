// Files through all points: every version of them, and where something was last.
#pragma once

#include "engine/look.hpp"

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
  Instant since;  // start of the point after the last, where it was changed or gone
};

struct VersionSearch {
  std::vector<FoundVersion> versions;  // by path; of one path by the drive and the time
  std::uint64_t more = 0;              // found and not listed
  std::vector<std::string> unread;     // points that could not be looked through, and why
};

// What `pattern` means: see find_names. Points that were given up are left out. Pages of the catalogs that
// points have in common are read once.
VersionSearch find_versions(std::vector<LookSession>& sessions, const std::string& pattern, std::size_t most,
                            RunControl& control);

// The newest point of all drives that has that path.
struct LastSeen {
  std::size_t session = 0;
  SetFacts point;
  std::optional<SetFacts> without;  // the first later point on that drive
};
std::optional<LastSeen> last_seen(std::vector<LookSession>& sessions, const TreePath& path);

}  // namespace kestrum
