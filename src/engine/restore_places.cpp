#include "engine/restore_places.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <climits>
#include <filesystem>

#include "base/text.hpp"
#include "engine/run_facts.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

std::vector<std::string> sources_of(OpenPoint& point) {
  try {
    return decode_run_record(point.reader().fetch(point.reader().set().root().record)).sources;
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return {};
  }
}

// Where a path leads. As root only through links of root: anybody else could lead it anywhere. Nothing where
// it cannot be told, or is not there.
std::optional<TreePath> resolved(const TreePath& path) {
  TreePath real;
  std::vector<std::string> left = path.components();
  std::reverse(left.begin(), left.end());
  constexpr int most_links = 40;
  for (int links = 0; !left.empty();) {
    const std::string name = std::move(left.back());
    left.pop_back();
    if (name.empty() || name == ".") continue;
    if (name == "..") {
      real = real.parent();
      continue;
    }
    const TreePath next = real.child(name);
    struct stat status {};
    if (lstat(next.absolute().c_str(), &status) != 0) return std::nullopt;
    if (!S_ISLNK(status.st_mode)) {
      real = next;
      continue;
    }
    std::string target(PATH_MAX, '\0');
    const ssize_t length = readlink(next.absolute().c_str(), target.data(), target.size());
    const bool ours = status.st_uid == 0 || status.st_uid == geteuid();
    if (!ours || length < 0 || ++links > most_links) return std::nullopt;
    target.resize(static_cast<std::size_t>(length));
    if (target.starts_with('/')) real = TreePath();
    std::vector<std::string> more = split(target, '/');
    left.insert(left.end(), more.rbegin(), more.rend());
  }
  return real;
}

}  // namespace

RestorePlaces::RestorePlaces(const RestoreRequest& request, OpenPoint& point)
    : request_(request), maps_(request.map) {
  if (request.in_place && request.target == "/") {
    for (const std::string& source : sources_of(point)) {
      const std::optional<TreePath> from = TreePath::parse(source);
      const std::optional<TreePath> to = from ? resolved(*from) : std::nullopt;
      if (to && *from != *to) maps_.push_back({*from, *to});
    }
  }
}

TreePath mapped_path(const TreePath& path, const std::vector<PathMap>& maps) {
  const PathMap* best = nullptr;
  for (const PathMap& map : maps) {
    if (path.is_within(map.from) && (best == nullptr || best->from.depth() < map.from.depth())) best = &map;
  }
  if (best == nullptr) return path;
  TreePath out = best->to;
  for (const std::string& name : path.below(best->from).components()) out = out.child(name);
  return out;
}

TreePath RestorePlaces::of(const Entry& entry, const TreePath& picked) const {
  if (request_.in_place || request_.layout == Layout::path) return mapped_path(entry.path, maps_);
  if (request_.layout == Layout::flat) return TreePath().child(entry.path.name());
  return entry.path.below(picked.is_root() ? picked : picked.parent());
}

std::optional<TreePath> RestorePlaces::of_ancestor(const TreePath& folder) const {
  const bool above_map = std::any_of(maps_.begin(), maps_.end(), [&](const PathMap& map) {
    return map.from != folder && map.from.is_within(folder) && !map.to.is_within(folder);
  });
  const TreePath place = mapped_path(folder, maps_);
  // Above a mapped name its own folders may be none of the target's.
  if (above_map && place == folder) return std::nullopt;
  return place;
}

void refuse_inside_destination(const std::vector<LookSession>& subjects, const RestoreRequest& request) {
  if (request.in_place || request.into == RestoreInto::stream) return;
  std::error_code code;
  const std::optional<TreePath> target = TreePath::parse(fs::weakly_canonical(request.target, code).string());
  if (code || !target) return;
  for (const LookSession& subject : subjects) {
    const std::optional<TreePath> root = TreePath::parse(fs::weakly_canonical(subject.root(), code).string());
    if (code || !root || root->is_root() || !target->is_within(*root)) continue;
    throw Error(ErrorKind::usage,
                printable(request.target) + " lies in the destination " + printable(subject.root()) +
                    ", among the archive sets",
                "restore into a folder elsewhere");
  }
}

}  // namespace kestrum
