// Folders in which something happened, as watching has told.
#pragma once

#include <map>
#include <set>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "base/tree_path.hpp"

namespace kestrum {

// What watching has told does not fit what is there, or is not enough to go by: everything must be looked at.
struct WatchDoubt {
  std::string why;  // in plain words
};

// What happened in one folder.
struct FolderChange {
  enum class How {
    named,   // to the folder itself, and to what lies directly in it under these names
    listed,  // to it and to anything that lies directly in it
    whole,   // to all below it: it was made, came from elsewhere, or its tag as a cache came or went
  };
  How how = How::named;
  std::set<std::string, std::less<>> names;  // of named

  // Both happened. Of more names than are worth keeping, it is listed; of a cache's tag, whole.
  void add(const FolderChange& other);
  void add_name(std::string_view name);
  static FolderChange of_name(std::string_view name);
};

class ChangedFolders {
 public:
  ChangedFolders() = default;
  ChangedFolders(ChangedFolders&&) = default;
  ChangedFolders& operator=(ChangedFolders&&) = default;
  void add(const TreePath& folder, const FolderChange& change);
  std::size_t size() const { return folders_.size(); }

  // It or a folder above it is to be looked at whole.
  bool is_whole(const TreePath& path) const;
  // Everything that lies directly in it is to be looked at.
  bool is_listed(const TreePath& folder) const;
  // Something happened to the folder, or directly in it.
  bool is_changed(const TreePath& folder) const { return find(folder.joined()) != nullptr; }
  // Whether a changed folder lies in it, at any depth.
  bool any_below(const TreePath& folder) const;
  // The thing itself is to be looked at.
  bool touches(const TreePath& path) const;
  // Whether anything in [first, until) may be to be looked at; false is sure, and so is that nothing is
  // missed when what lies at `first` was looked at before.
  bool may_touch(const TreePath& first, const TreePath& until) const;
  // Names in `folder` of what is to be looked at there, and of what leads to changed folders further down;
  // sorted.
  std::vector<std::string> names_in(const TreePath& folder) const;

 private:
  const FolderChange* find(std::string_view joined) const;
  std::map<TreePath, FolderChange> folders_;
  // The same by the joined path, which lies in the map: asked of every entry of a catalog.
  std::unordered_map<std::string_view, const FolderChange*> by_path_;
  bool any_whole_ = false;
};

}  // namespace kestrum
