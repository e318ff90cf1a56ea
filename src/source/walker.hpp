// Walks the sources in catalog order, reading no file: folders are listed, everything is looked at once.
#pragma once

#include <sys/stat.h>

#include <functional>
#include <optional>

#include "base/file_handle.hpp"
#include "base/observer.hpp"
#include "base/tree_path.hpp"
#include "source/filesystem_table.hpp"
#include "source/skip_rules.hpp"

namespace kestrum {

// A folder by identity, wherever it is mounted or linked from.
struct FolderIdentity {
  dev_t device = 0;
  ino_t inode = 0;
  bool operator==(const FolderIdentity&) const = default;
};

// What a job saves, resolved on this machine.
struct Selection {
  std::vector<TreePath> sources;  // in order, none inside another
  SkipRules skip;
  std::vector<FolderIdentity> excluded;  // destinations: never walked into
};

// Resolves symlinks in the sources' paths, drops repeated and nested ones. Missing ones stay, and become
// problems of the walk. `note` is told of what was changed. Throws usage for paths that are not absolute.
Selection make_selection(const std::vector<std::string>& folders, const std::vector<std::string>& skip,
                         const std::function<void(const std::string&)>& note);

// One thing found, as it is itself; of a device given as a source, what its links lead to. The folder handle is good until the walker moves on.
struct Walked {
  TreePath path;
  struct stat status {};
  bool above_source = false;  // an ancestor of a source
  bool unlisted = false;      // a folder that could not be listed
  bool device = false;        // a source that is a block device: read as one image; st_size is the device's
  std::uint32_t filesystem = 0;
  int folder_fd = -1;  // where `name` is found
  std::string name;
  int own_fd = -1;  // for folders that could be opened, above_source excepted
};

class Walker {
 public:
  using OnProblem = std::function<void(const Problem&)>;
  using OnNote = std::function<void(const std::string&)>;
  // References must outlive this.
  Walker(const Selection& selection, FilesystemTable& filesystems, OnProblem on_problem, OnNote on_note);

  // The next thing in catalog order, or nothing. Throws only for what concerns the whole run.
  const Walked* next();
  // Sources that could not even be looked at.
  std::size_t missing_sources() const { return missing_; }

 private:
  // Deep trees: only so many folders are open at once; others are found again through "..".
  static constexpr std::size_t open_folders = 128;
  struct Folder {
    TreePath path;
    FileHandle handle;
    std::vector<std::string> names;  // sorted by bytes
    std::size_t at = 0;
    FolderIdentity identity;
    std::uint32_t filesystem = 0;
  };
  bool start_source();
  bool look_at(const std::string& name, int folder_fd, const TreePath& path, bool is_source);
  bool look_at_device();
  void enter(FileHandle handle);
  bool list(Folder& folder);
  void leave();
  void problem(const TreePath& path, const char* operation, const std::string& reason);

  const Selection& selection_;
  FilesystemTable& filesystems_;
  OnProblem on_problem_;
  OnNote on_note_;
  std::size_t source_ = 0;
  std::vector<TreePath> ancestors_;  // still to be shown before the source
  std::optional<TreePath> last_ancestor_parent_;
  std::vector<Folder> stack_;
  FileHandle parent_;  // of a source or an ancestor
  Walked now_;
  std::optional<FileHandle> pending_;  // the folder shown last: entered at the next call
  bool pending_enter_ = false;
  std::size_t missing_ = 0;
  std::optional<TreePath> shown_;  // the last ancestor shown
};

}  // namespace kestrum
