// Which of the things that happen on a machine concern a selection.
#pragma once

#include <sys/stat.h>

#include "source/chooser.hpp"
#include "source/filesystem_table.hpp"

namespace kestrum {

// It cannot be watched in that way.
struct NotWatchable {
  std::string why;  // in plain words, a part of a sentence
};
// A folder did not open, of which that says nothing (too many files are open, there is no memory): it may
// count. Throws NotWatchable then. What is gone or shut is told by others.
void refuse_shortage(int error);

// One thread.
class WatchedTree {
 public:
  // Limits of sizes and ages do not count here: what happened to a file may have brought it over them.
  explicit WatchedTree(Selection selection);
  const Selection& selection() const { return selection_; }

  // What was decided of a source's folder.
  FolderChoice of_source(const TreePath& source, const struct stat& status) const;
  // Whether the walk goes into a folder of which that was decided, and what holds in it then. `fd`: the
  // folder.
  std::optional<FolderChoice> of_child(const FolderChoice& parent, const TreePath& path,
                                       const struct stat& status, int fd);
  // The same of any folder, as it is on the machine now. Throws NotWatchable.
  std::optional<FolderChoice> of_folder(const TreePath& folder);
  static constexpr std::string_view tag = "CACHEDIR.TAG";
  // Of a folder that is tagged as a cache: that name is the tag's. When it goes, other things are taken from
  // there.
  static bool is_tag(const FolderChoice& folder, std::string_view name);
  // Whether something of that name in such a folder is taken, or looked into.
  bool counts(const FolderChoice& parent, const TreePath& path, bool is_folder) const;
  // The source that it is in.
  const TreePath* source_of(const TreePath& path) const;
  // Whether a source is that very thing or lies in it.
  bool leads_to_source(const TreePath& path) const;

 private:
  bool is_shut(const struct stat& status, int fd);

  Selection selection_;
  Chooser chooser_;
  FilesystemTable filesystems_;
};

}  // namespace kestrum
