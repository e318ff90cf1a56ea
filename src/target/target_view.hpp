// What lies where a restore would put things; nothing is created.
#pragma once

#include "target/target_folder.hpp"

namespace kestrum {

class TargetView {
 public:
  // The folder need not be there. Throws Error: usage when it is something else, failed.
  explicit TargetView(const std::string& path);

  // An open handle on the folder `below` (relative to the target), good until the next call; -1 when it is
  // not there. Throws Error of kind failed when a link or a file stands in the way.
  int folder(const TreePath& below);
  // The same, or the nearest one above it that is there: where it would be created.
  int nearest(const TreePath& below);

 private:
  std::optional<TargetFolder> there_;
  FileHandle above_;  // of a target that is not there
};

}  // namespace kestrum
