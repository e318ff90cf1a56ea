// The names that target folders held before a restore put anything there. Only those may be replaced: where a
// file system takes two names for the same, or two picked files have one name, the second must not go over
// the first.
#pragma once

#include <map>
#include <string>
#include <unordered_set>

#include "base/tree_path.hpp"

namespace kestrum {

class NamesBefore {
 public:
  // `comes_back`: the restore may come again to a folder that it has left; nothing is forgotten then.
  explicit NamesBefore(bool comes_back) : comes_back_(comes_back) {}

  // To be called before anything is put into the folder, which is open as `fd`; reads its names once. A
  // folder that this restore created holds none.
  void enter(const TreePath& folder, int fd, bool created);
  bool held(const TreePath& folder, const std::string& name) const;
  // It was replaced and is ours from now on.
  void replaced(const TreePath& folder, const std::string& name);

 private:
  using Names = std::unordered_set<std::string>;
  bool comes_back_;
  std::map<TreePath, Names> folders_;
};

// True when listing the open folder shows exactly this name.
bool lists_name(int folder_fd, const std::string& name);

// A name that the pickiest file systems hold, near to `name`: without control characters and "*/:<>?\| and
// bytes that are no UTF-8, not ending in a dot or a space, at most 120 bytes.
std::string substitute_name(const std::string& name);

// errno values by which a file system says that it cannot hold a name.
bool refuses_name(int code);

}  // namespace kestrum
