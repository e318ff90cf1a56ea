// How the kernel is asked to tell what happens to the folders of a selection.
#pragma once

#include <memory>

#include "source/changed_folders.hpp"
#include "source/watched_tree.hpp"

namespace kestrum {

// Told of what happens, by WatchWay::drain.
class WatchSink {
 public:
  virtual ~WatchSink() = default;
  // In that folder, to the thing of that path in it, or to the folder itself.
  virtual void happened(const TreePath& folder, const TreePath& what) = 0;
  // That folder was made, or came from elsewhere, with all that is in it.
  virtual void came(const TreePath& folder) = 0;
  // From here on it is not known what happened: everything begins anew.
  virtual void lost(const std::string& why) = 0;
};

class WatchWay {
 public:
  virtual ~WatchWay() = default;
  // Becomes readable when something has happened.
  virtual int handle() const = 0;
  // Tells what has happened until now, without waiting. Returns how many events it was.
  virtual std::size_t drain(WatchSink& sink) = 0;
  // For people: "inotify, 120 folders".
  virtual std::string words() const = 0;
};

// Everything on the file systems of the sources is watched from when this returns (fanotify(7), with the
// names of what changes: kernel 5.9). Needs root. Throws NotWatchable.
std::unique_ptr<WatchWay> watch_file_systems(WatchedTree& tree);
// Every folder for itself (inotify(7)). `stop`: asked now and then while the folders are gone through.
// Throws NotWatchable, also when told to stop.
std::unique_ptr<WatchWay> watch_folders(WatchedTree& tree, const std::function<bool()>& stop);

}  // namespace kestrum
