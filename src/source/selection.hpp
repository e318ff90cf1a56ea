// What a job saves, resolved on this machine: where it begins to take things, and what it leaves out.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/clock.hpp"
#include "base/tree_path.hpp"
#include "source/skip_rules.hpp"

namespace kestrum {

// A folder by identity, wherever it is mounted or linked from.
struct FolderIdentity {
  dev_t device = 0;
  ino_t inode = 0;
  bool operator==(const FolderIdentity&) const = default;
};

// From here downwards, until another place begins.
struct Place {
  TreePath path;
  bool whole = true;           // everything; else only files of the wanted types
  std::uint16_t category = 0;  // of what is taken whole: index into Selection::categories
};

struct SelectionLimits {
  std::optional<std::uint64_t> largest, smallest;  // bytes, of files
  std::optional<Instant> oldest, newest;           // last modification, of files
};

struct Selection {
  std::vector<TreePath> sources;  // where the walk begins: in order, none inside another
  std::vector<Place> places;      // by path; each source is one
  std::vector<std::string> categories{"named folders"};  // what can be taken; 0: folders that a person named
  std::unordered_map<std::string, std::uint16_t> types;  // ending of a name in lower case: its category
  SkipRules skip;
  SelectionLimits limits;
  bool mounted_below = true;             // enter other file systems below a source
  bool tagged_caches = true;             // enter folders with a CACHEDIR.TAG
  std::vector<FolderIdentity> excluded;  // destinations: never walked into

  const Place* place_at(const TreePath& path) const;
  // Whether a place lies inside that folder.
  bool places_below(const TreePath& folder) const;
};

// A place as a person or a category names it.
struct WantedPlace {
  std::string path;  // absolute
  bool whole = true;
  std::uint16_t category = 0;
};

// Resolves symlinks in the paths, drops what another place holds already. Named folders (category 0) that are
// missing stay, and become problems of the walk; others are left away. `note` is told of what was changed.
// Throws usage for paths that are not absolute.
void set_places(Selection& selection, const std::vector<WantedPlace>& wanted,
                const std::function<void(const std::string&)>& note);

// Named folders and skip patterns only.
Selection make_selection(const std::vector<std::string>& folders, const std::vector<std::string>& skip,
                         const std::function<void(const std::string&)>& note);

}  // namespace kestrum
