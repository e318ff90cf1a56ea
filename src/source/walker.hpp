// Walks the sources in catalog order, reading no file: folders are listed, everything is looked at once.
#pragma once

#include <sys/stat.h>

#include <functional>
#include <memory>
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

// One thing found, as it is itself; of a device given as a source, what its links lead to.
struct Walked {
  TreePath path;
  struct stat status {};
  bool above_source = false;  // an ancestor of a source
  bool unlisted = false;      // a folder that could not be listed
  bool device = false;        // a source that is a block device: read as one image; st_size is the device's
  std::uint32_t filesystem = 0;
  std::shared_ptr<const FileHandle> folder;  // where `name` is found
  std::string name;
  std::shared_ptr<const FileHandle> own;  // of folders that could be opened, above_source excepted
};

class Walker {
 public:
  using OnProblem = std::function<void(const Problem&)>;
  using OnNote = std::function<void(const std::string&)>;
  // References must outlive this.
  Walker(const Selection& selection, FilesystemTable& filesystems, OnProblem on_problem, OnNote on_note);

  // The next thing in catalog order, or nothing; good until the next call. Throws only for what concerns the
  // whole run.
  const Walked* next();

 private:
  // Deep trees: only so many folders are open at once; others are found again through "..".
  static constexpr std::size_t open_folders = 128;
  struct Folder {
    TreePath path;
    std::shared_ptr<const FileHandle> handle;
    std::vector<std::string> names;  // sorted by bytes
    std::size_t at = 0;
    FolderIdentity identity;
    std::uint32_t filesystem = 0;
  };
  bool start_source();
  bool look_at(std::string name, const std::shared_ptr<const FileHandle>& folder, TreePath path,
               bool is_source);
  bool look_at_device();
  void enter();
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
  Walked now_;
  bool pending_enter_ = false;     // the folder shown last is entered at the next call
  std::optional<TreePath> shown_;  // the last ancestor shown
};

}  // namespace kestrum
