// The folder that a restore writes to, with the names in it that had to be different from those wanted.
#pragma once

#include <map>
#include <optional>

#include "target/names_before.hpp"
#include "target/target_folder.hpp"

namespace kestrum {

// `place`: where something should go, below the target; `real`: where it does go.
class RestoreTarget {
 public:
  // `comes_back`: folders may be come to again after they were left.
  RestoreTarget(const std::string& path, bool comes_back);

  TreePath real(const TreePath& place) const;
  struct Made {
    TreePath real;
    bool created = false;
    std::string trouble;  // its name could not be kept: plain words
  };
  // Throws Error as TargetFolder::folder does.
  Made make_folder(const TreePath& place);
  // Open handle, good until the next call of this or make_folder. Creates it when it is missing.
  int open(const TreePath& real);

  // The same for a folder that is there; throws Error when it is not.
  int folder(const TreePath& real) { return folder_.folder(real, false); }

  // On return what was restored is on the drive. `everywhere`: it may lie on several file systems.
  void flush(bool everywhere) { folder_.flush(everywhere); }

  NamesBefore& names() { return names_; }
  std::string describe(const TreePath& real) const { return folder_.describe(real); }

 private:
  TargetFolder folder_;
  NamesBefore names_;
  std::map<TreePath, TreePath> renamed_;  // folders by place
};

}  // namespace kestrum
