// Walks the sources in catalog order, reading no file: folders are listed, everything is looked at once.
#pragma once

#include <sys/stat.h>

#include <deque>
#include <functional>
#include <memory>
#include <optional>

#include "base/file_handle.hpp"
#include "base/observer.hpp"
#include "base/tree_path.hpp"
#include "source/changed_folders.hpp"
#include "source/chooser.hpp"
#include "source/filesystem_table.hpp"

namespace kestrum {

// One thing found, as it is itself; of a device given as a source, what its links lead to.
struct Walked {
  TreePath path;
  struct stat status {};
  bool above_source = false;   // an ancestor of a source, or of something that is taken out of it
  bool unlisted = false;       // a folder that could not be opened: nothing of what is in it follows
  bool partly_listed = false;  // a folder whose listing broke off: what was seen of it follows
  bool maybe_shown =
      false;             // a folder that counts only when something in it is taken, which is not known here
  std::string unlooked;  // why it could not be looked at; nothing else is known of it then. Else empty
  bool device = false;   // a source that is a block device: read as one image; st_size is the device's
  std::uint32_t filesystem = 0;
  Choice choice;
  std::shared_ptr<const FileHandle> folder;  // where `name` is found
  std::string name;
  std::shared_ptr<const FileHandle> own;  // of folders that could be opened, above_source excepted

  // Of what could not be looked at; whoever takes it tells it.
  Problem problem() const { return {path.absolute(), "look at", unlooked}; }
};

// Who wants to know what is left out; of a folder left out, only the folder itself.
struct LeftOut {
  TreePath path;
  bool folder = false;
  std::uint64_t size = 0;  // bytes, of files
  Choice choice;
};

class Walker {
 public:
  using OnProblem = std::function<void(const Problem&)>;
  using OnNote = std::function<void(const std::string&)>;
  using OnLeftOut = std::function<void(const LeftOut&)>;
  // References must outlive this. `changed`: only these folders are looked into, and what leads to them; of
  // other folders in them only the folder itself is shown. Then WatchDoubt is thrown where one of them, or a
  // source, is not there.
  Walker(const Selection& selection, FilesystemTable& filesystems, OnProblem on_problem, OnNote on_note,
         OnLeftOut on_left_out = {}, const ChangedFolders* changed = nullptr);

  // The next thing in catalog order, or nothing; good until the next call. Throws only for what concerns the
  // whole run.
  const Walked* next();

 private:
  // Deep trees: only so many folders are open at once; others are found again through "..".
  const std::size_t open_folders_ = open_files_share(128);
  struct Folder {
    TreePath path;
    std::shared_ptr<const FileHandle> handle;
    std::vector<std::string> names;  // sorted by bytes
    std::size_t at = 0;
    FolderIdentity identity;
    std::uint32_t filesystem = 0;
    FolderChoice choice;
    std::optional<Walked> unshown;  // shown only when something in it is taken
  };
  const Walked* find_next();
  const Walked* show();
  bool start_source();
  void begin_with(std::string name, const std::shared_ptr<const FileHandle>& folder, TreePath path);
  bool look_at(std::string name, const std::shared_ptr<const FileHandle>& folder, TreePath path,
               bool is_source);
  bool look_at_device();
  // Lists the folder at hand, to be entered at the next call.
  void prepare();
  void enter();
  bool may_be_tagged(const Folder& folder) const;
  void list(Folder& folder);
  void leave();
  void problem(const TreePath& path, const char* operation, const std::string& reason);

  const Selection& selection_;
  Chooser chooser_;
  FilesystemTable& filesystems_;
  OnProblem on_problem_;
  OnNote on_note_;
  OnLeftOut on_left_out_;
  const ChangedFolders* changed_;
  std::size_t source_ = 0;
  std::vector<Folder> stack_;
  Walked now_;
  std::deque<Walked> waiting_;  // folders above what was found, then it
  Walked shown_now_;
  std::optional<Folder> prepared_;  // the folder shown last, entered at the next call
  std::optional<TreePath> shown_;   // the last ancestor shown
};

}  // namespace kestrum
