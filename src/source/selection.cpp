#include "source/selection.hpp"

#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>
#include <memory>

#include "base/error.hpp"
#include "base/text.hpp"
#include "source/block_device.hpp"

namespace kestrum {
namespace {

// The path with symlinks resolved, as far as it exists.
std::string resolved(const std::string& path) {
  std::unique_ptr<char, void (*)(void*)> real(realpath(path.c_str(), nullptr), std::free);
  return real ? std::string(real.get()) : path;
}

bool is_there(const TreePath& path) {
  struct stat status {};
  return lstat(path.absolute().c_str(), &status) == 0;
}

Place resolve(const WantedPlace& wanted, const std::function<void(const std::string&)>& note) {
  std::optional<TreePath> path = wanted.path.starts_with('/') ? TreePath::parse(wanted.path) : std::nullopt;
  if (!path) {
    throw Error(ErrorKind::usage, "the source '" + printable(wanted.path) + "' is not an absolute path",
                "write it from the root, like /srv/ringing, without '..'");
  }
  if (std::optional<TreePath> device = device_source(path->absolute()))
    return {*device, true, wanted.category};
  std::string real = resolved(path->absolute());
  if (real != path->absolute()) {
    if (wanted.category == 0 && wanted.whole)
      note("the source " + printable(path->absolute()) + " is really " + printable(real) +
           ", which is saved");
    path = TreePath::parse(real);
  }
  return {*path, wanted.whole, wanted.category};
}

}  // namespace

const Place* Selection::place_at(const TreePath& path) const {
  auto found = std::lower_bound(places.begin(), places.end(), path,
                                [](const Place& place, const TreePath& at) { return place.path < at; });
  return found != places.end() && found->path == path ? &*found : nullptr;
}

bool Selection::places_below(const TreePath& folder) const {
  auto after = std::upper_bound(places.begin(), places.end(), folder,
                                [](const TreePath& at, const Place& place) { return at < place.path; });
  return after != places.end() && after->path.is_within(folder);
}

void set_places(Selection& selection, const std::vector<WantedPlace>& wanted,
                const std::function<void(const std::string&)>& note) {
  std::vector<Place> all;
  for (const WantedPlace& one : wanted) {
    Place place = resolve(one, note);
    if (place.category == 0 && place.whole ? true : is_there(place.path)) all.push_back(std::move(place));
  }
  // Of several at one path, the one that takes the most comes first, and of those the one named first.
  std::stable_sort(all.begin(), all.end(), [](const Place& a, const Place& b) {
    if (a.path != b.path) return a.path < b.path;
    return a.whole && !b.whole;
  });
  for (Place& place : all) {
    // The nearest place around it: the last one that it lies in.
    const Place* around = nullptr;
    for (auto kept = selection.places.rbegin(); kept != selection.places.rend() && around == nullptr;
         ++kept) {
      if (place.path.is_within(kept->path)) around = &*kept;
    }
    bool inside_whole = around != nullptr && around->whole;
    if (inside_whole && place.whole && place.category == 0) {
      note("the source " + printable(place.path.absolute()) + " lies in " +
           printable(around->path.absolute()) + " and is taken once");
    }
    // One that was named stays a place within another: patterns and limits of what is around it do not hold
    // for it.
    bool same = around != nullptr && around->path == place.path;
    if (same || (around != nullptr && !place.whole)) continue;
    if (around == nullptr) selection.sources.push_back(place.path);
    selection.places.push_back(std::move(place));
  }
}

Selection make_selection(const std::vector<std::string>& folders, const std::vector<std::string>& skip,
                         const std::function<void(const std::string&)>& note) {
  Selection selection;
  selection.skip = SkipRules(skip);
  std::vector<WantedPlace> wanted;
  for (const std::string& folder : folders) wanted.push_back({folder, true, 0});
  set_places(selection, wanted, note);
  return selection;
}

}  // namespace kestrum
