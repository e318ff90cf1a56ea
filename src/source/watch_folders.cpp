#include <dirent.h>
#include <fcntl.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <cerrno>
#include <unordered_map>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "source/watch_way.hpp"

namespace kestrum {
namespace {

constexpr std::uint32_t what_happens = IN_CREATE | IN_DELETE | IN_MODIFY | IN_ATTRIB | IN_CLOSE_WRITE |
                                       IN_MOVED_FROM | IN_MOVED_TO | IN_DELETE_SELF | IN_MOVE_SELF |
                                       IN_ONLYDIR | IN_EXCL_UNLINK;
constexpr std::uint32_t goes = IN_DELETE_SELF | IN_MOVE_SELF;
constexpr std::uint32_t comes_or_goes = IN_CREATE | IN_DELETE | IN_MOVED_FROM | IN_MOVED_TO;

class FolderWatches final : public WatchWay {
 public:
  FolderWatches(WatchedTree& tree, const std::function<bool()>& stop)
      : tree_(tree), kernel_(inotify_init1(IN_CLOEXEC | IN_NONBLOCK)) {
    if (!kernel_) throw NotWatchable{"the kernel gives no watch: " + system_reason(errno)};
    stop_ = stop;
    for (const TreePath& source : tree.selection().sources) {
      watch_above(source);
      struct stat status {};
      FileHandle folder(open(source.absolute().c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
      if (folder && fstat(folder.get(), &status) == 0)
        enter(source, tree.of_source(source, status), std::move(folder));
    }
    stop_ = {};
  }

  int handle() const override { return kernel_.get(); }
  std::string words() const override { return count_text(places_.size(), "folder"); }

  std::size_t drain(WatchSink& sink) override {
    std::size_t events = 0;
    alignas(inotify_event) char buffer[64 << 10];
    while (true) {
      const ssize_t got = read(kernel_.get(), buffer, sizeof buffer);
      if (got <= 0) return events;
      for (const char* at = buffer; at < buffer + got; ++events) {
        const auto* event = reinterpret_cast<const inotify_event*>(at);
        at += sizeof(inotify_event) + event->len;
        try {
          take(*event, sink);
        } catch (const NotWatchable& trouble) {
          sink.lost(trouble.why);
        }
      }
    }
  }

 private:
  struct Watch {
    int number = -1;
    FolderChoice choice;
  };
  using Watches = std::map<TreePath, Watch>;

  // Through the handle: names may be longer than a path can be.
  int add(int folder) {
    const std::string path = "/proc/self/fd/" + std::to_string(folder);
    const int number = inotify_add_watch(kernel_.get(), path.c_str(), what_happens);
    if (number < 0 && errno == ENOSPC)
      throw NotWatchable{
          "there are more folders than the kernel watches for one user; the limit is "
          "fs.inotify.max_user_watches (sysctl)"};
    if (number < 0) refuse_shortage(errno);
    return number;
  }

  // A source that is made, removed or moved, or a folder above it, is noticed in the folder above; a source
  // that is a file is watched from there too.
  void watch_above(const TreePath& source) {
    for (TreePath up = source; !up.is_root();) {
      up = up.parent();
      FileHandle folder(open(up.absolute().c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
      if (!folder) continue;
      const int number = add(folder.get());
      if (number >= 0) above_[number] = up;
    }
  }

  // The folder and all in it that is looked into: watched before it is listed, so that nothing comes in
  // between unseen. One level of folders is open at a time for each level of the tree.
  void enter(const TreePath& path, const FolderChoice& choice, FileHandle folder) {
    struct Level {
      TreePath path;
      FolderChoice choice;
      FileHandle handle;
      std::vector<std::string> folders;
    };
    std::vector<Level> levels;
    auto go_in = [&](const TreePath& into, const FolderChoice& chosen, FileHandle handle) {
      const int number = add(handle.get());
      // Gone, or not to be read by this user: the run tells of it.
      if (number < 0) return;
      remember(into, {number, chosen}, handle.get());
      std::vector<std::string> folders = folders_in(handle.get());
      if (!folders.empty()) levels.push_back({into, chosen, std::move(handle), std::move(folders)});
    };
    go_in(path, choice, std::move(folder));
    while (!levels.empty()) {
      Level& level = levels.back();
      if (level.folders.empty()) {
        levels.pop_back();
        continue;
      }
      const std::string name = std::move(level.folders.back());
      level.folders.pop_back();
      FileHandle below(
          openat(level.handle.get(), name.c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
      struct stat status {};
      if (!below && errno == EMFILE)
        throw NotWatchable{"folders lie deeper in each other than can be held open at once"};
      if (!below) refuse_shortage(errno);
      if (!below || fstat(below.get(), &status) != 0) continue;
      if (stop_ && stop_()) throw NotWatchable{"it was stopped"};
      const TreePath into = level.path.child(name);
      if (std::optional<FolderChoice> chosen = tree_.of_child(level.choice, into, status, below.get()))
        go_in(into, *chosen, std::move(below));
    }
  }

  static std::vector<std::string> folders_in(int folder) {
    std::vector<std::string> names;
    const int copy = openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    DIR* dir = copy < 0 ? nullptr : fdopendir(copy);
    if (dir == nullptr) refuse_shortage(errno);
    if (dir == nullptr) return names;
    std::unique_ptr<DIR, int (*)(DIR*)> closer(dir, closedir);
    while (const dirent* item = readdir(dir)) {
      const std::string_view name = item->d_name;
      if ((item->d_type == DT_DIR || item->d_type == DT_UNKNOWN) && name != "." && name != "..")
        names.emplace_back(name);
    }
    return names;
  }

  void remember(const TreePath& path, Watch watch, int folder) {
    // The same folder may have been known by another path; by two at once it can not be, for the kernel does
    // not tell them apart.
    if (auto known = places_.find(watch.number); known != places_.end() && known->second->first != path) {
      const std::string before = known->second->first.absolute();
      struct stat own {};
      struct stat other {};
      if (fstat(folder, &own) == 0 && lstat(before.c_str(), &other) == 0 && own.st_dev == other.st_dev &&
          own.st_ino == other.st_ino)
        throw NotWatchable{printable(before) + " and " + printable(path.absolute()) +
                           " are the same folder: leave out one of them ([what] skip)"};
      watches_.erase(known->second);
    }
    const auto [at, added] = watches_.insert_or_assign(path, watch);
    places_[watch.number] = at;
  }

  void forget(const TreePath& folder) {
    auto at = watches_.lower_bound(folder);
    while (at != watches_.end() && at->first.is_within(folder)) {
      inotify_rm_watch(kernel_.get(), at->second.number);
      places_.erase(at->second.number);
      at = watches_.erase(at);
    }
  }

  void take(const inotify_event& event, WatchSink& sink) {
    if ((event.mask & IN_Q_OVERFLOW) != 0)
      return sink.lost("so much happened at once that the kernel lost count");
    if ((event.mask & IN_UNMOUNT) != 0) return sink.lost("a file system was unmounted");
    const std::string name = event.len > 0 ? event.name : "";
    const bool is_folder = (event.mask & IN_ISDIR) != 0;
    // By another mount, a folder above one source may be in another.
    if (auto above = above_.find(event.wd); above != above_.end())
      take_above(above->second, name, event.mask, sink);
    auto found = places_.find(event.wd);
    if (found == places_.end()) return;
    if ((event.mask & IN_IGNORED) != 0) {
      watches_.erase(found->second);
      places_.erase(found);
      return;
    }
    const TreePath folder = found->second->first;
    const FolderChoice choice = found->second->second.choice;
    // The folder above a source tells nothing where it cannot be read.
    if ((event.mask & goes) != 0 && tree_.leads_to_source(folder))
      return sink.lost(printable(folder.absolute()) + " came or went");
    if (name.empty()) return sink.happened(folder, folder);
    const TreePath what = folder.child(name);
    if (WatchedTree::is_tag(choice, name)) {
      sink.happened(folder, what);
      // The folders in it are not watched, and count from now on.
      const std::optional<FolderChoice> now = tree_.of_folder(folder);
      if (now && !WatchedTree::is_tag(*now, name))
        sink.lost(printable(folder.absolute()) + " is no cache any more");
      return;
    }
    if (!tree_.counts(choice, what, is_folder)) return;
    sink.happened(folder, what);
    const bool moved = (event.mask & comes_or_goes) != 0;
    // One that could not be read until now is as good as one that comes.
    if (!is_folder || (!moved && watches_.contains(what))) return;
    forget(what);
    if ((event.mask & (IN_DELETE | IN_MOVED_FROM)) != 0) return;
    sink.came(what);
    FileHandle handle(open(what.absolute().c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
    struct stat status {};
    if (!handle) refuse_shortage(errno);
    // From above it is reached by handles.
    if (!handle && errno == ENAMETOOLONG)
      return sink.lost(printable(folder.absolute()) + " lies so deep that its path cannot be opened");
    if (!handle || fstat(handle.get(), &status) != 0) return;  // gone again, which is told next
    if (std::optional<FolderChoice> chosen = tree_.of_child(choice, what, status, handle.get()))
      enter(what, *chosen, std::move(handle));
  }

  void take_above(const TreePath& folder, const std::string& name, std::uint32_t mask, WatchSink& sink) {
    if ((mask & goes) != 0) return sink.lost(printable(folder.absolute()) + " came or went");
    if (name.empty()) return;
    const TreePath what = folder.child(name);
    if (!tree_.leads_to_source(what)) return;
    const bool is_folder = (mask & IN_ISDIR) != 0;
    if ((mask & comes_or_goes) != 0 && is_folder)
      return sink.lost(printable(what.absolute()) + " came or went");
    if (is_folder && !watches_.contains(what) && tree_.source_of(what) != nullptr)
      return sink.lost(printable(what.absolute()) + " could not be read before, and may be now");
    if (!is_folder) sink.happened(folder, what);
  }

  WatchedTree& tree_;
  FileHandle kernel_;
  std::function<bool()> stop_;
  Watches watches_;
  std::unordered_map<int, Watches::iterator> places_;
  std::unordered_map<int, TreePath> above_;
};

}  // namespace

std::unique_ptr<WatchWay> watch_folders(WatchedTree& tree, const std::function<bool()>& stop) {
  return std::make_unique<FolderWatches>(tree, stop);
}

}  // namespace kestrum
