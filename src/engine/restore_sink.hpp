// Where a restore puts things: a folder, an archive file, a stream, or nowhere (a dry restore).
#pragma once

#include "engine/restore_state.hpp"

namespace kestrum {

// Called in the order of the catalog: a folder before what is in it. `place`: where something should go,
// below the target. What concerns one thing is thrown as Error of kind damage or failed; full, key and
// Stopped end the restore.
class RestoreSink {
 public:
  virtual ~RestoreSink() = default;
  // Folders that `next` is not within are done: nothing more goes into them.
  virtual void leave(const TreePath& next) = 0;
  // `on_the_way`: only above what was picked; attributes of such a one that is there are left alone.
  virtual void folder(const Entry& entry, const TreePath& place, bool on_the_way) = 0;
  virtual void leaf(const Entry& entry, const TreePath& place) = 0;
  // Everything was given: on return what was written is on the drive. Throws Error: failed, full.
  virtual void finish() = 0;
};

// What there is to do for something that is no folder.
enum class LeafTask { nothing, write, write_device };
// Tells as problems why there is nothing to do, where a person should know.
LeafTask task_of(const Entry& entry, RestoreState& state);
// As it is called where it is put: a file that could only be read in part is marked.
std::string placed_name(const Entry& entry, const TreePath& place);

// Into a folder. `comes_back`: folders may be come to again after they were left. Throws Error: usage when
// the target is something else than a folder.
std::unique_ptr<RestoreSink> folder_sink(RestoreState& state, bool comes_back);
// Only tells what would be restored, into a folder or into anything else.
std::unique_ptr<RestoreSink> dry_sink(RestoreState& state);
std::unique_ptr<RestoreSink> list_sink(RestoreState& state);
// Into a new file of the request's target, which is there once it is whole. Throws Error: usage when it is
// there already, or its name says no kind of file that is known.
std::unique_ptr<RestoreSink> archive_sink(RestoreState& state);
// The content of one file to the request's stream.
std::unique_ptr<RestoreSink> stream_sink(RestoreState& state);

}  // namespace kestrum
