// Where restored files go: everything happens beneath one folder handle, and no symlink is ever followed,
// whatever an archive's names say.
#pragma once

#include <sys/stat.h>

#include <list>
#include <optional>
#include <string>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/tree_path.hpp"

namespace kestrum {

// The file system cannot hold a folder's name.
class NameRefused : public Error {
 public:
  using Error::Error;
};

// A folder that is not there was not to be created.
class FolderMissing : public Error {
 public:
  using Error::Error;
};

class TargetFolder {
 public:
  // Creates the folder when it is missing. Throws Error: usage when it exists as something else, failed
  // otherwise.
  explicit TargetFolder(const std::string& path);

  // An open handle on the folder `below` (relative to the target); good until the next call. Created with
  // mode 0700 where missing and `create`, else FolderMissing is thrown; `created` tells whether the last
  // component was. Throws Error of kind failed, naming the path: also when a link or a file stands in the
  // way; NameRefused.
  int folder(const TreePath& below, bool create, bool* created = nullptr);
  const std::string& path() const { return path_; }
  // For messages.
  // Everything on its file system, or on all of them, is on the drive afterwards. Throws Error: failed.
  void flush(bool everywhere);
  std::string describe(const TreePath& below) const;

 private:
  struct Open {
    TreePath below;
    FileHandle handle;
  };
  // A restore goes through folders in order: the chain of the last one is kept open, up to a limit.
  const std::size_t open_limit_ = open_files_share(64);
  std::string path_;
  FileHandle root_;
  std::list<Open> chain_;
};

}  // namespace kestrum
