#include <fcntl.h>
#include <sys/fanotify.h>
#include <sys/stat.h>
#include <sys/vfs.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <climits>
#include <cstring>
#include <set>
#include <unordered_map>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/mount_table.hpp"
#include "base/text.hpp"
#include "source/watch_way.hpp"

namespace kestrum {
namespace {

constexpr std::uint64_t what_happens = FAN_CREATE | FAN_DELETE | FAN_MOVED_FROM | FAN_MOVED_TO | FAN_MODIFY |
                                       FAN_ATTRIB | FAN_CLOSE_WRITE | FAN_ONDIR;
constexpr std::uint64_t comes_or_goes = FAN_CREATE | FAN_DELETE | FAN_MOVED_FROM | FAN_MOVED_TO;

class FileSystemWatch final : public WatchWay {
 public:
  explicit FileSystemWatch(WatchedTree& tree)
      : tree_(tree),
        kernel_(fanotify_init(FAN_CLASS_NOTIF | FAN_REPORT_DFID_NAME | FAN_CLOEXEC | FAN_NONBLOCK,
                              O_RDONLY | O_LARGEFILE)) {
    if (!kernel_) throw NotWatchable{"the kernel gives no watch of file systems: " + system_reason(errno)};
    const std::vector<Mount> mounts = read_mount_table();
    for (const TreePath& source : tree.selection().sources) {
      const dev_t own = watch(existing(source));
      for (const Mount& mount : mounts) {
        // A folder of the same file system that is shown in another place is no other file system.
        const bool counts = tree.selection().mounted_below || mount.device == own;
        const std::optional<TreePath> place = TreePath::parse(mount.mount);
        if (counts && place && place->is_within(source)) watch(*place);
      }
    }
  }

  int handle() const override { return kernel_.get(); }
  std::string words() const override { return count_text(roots_.size(), "file system"); }

  std::size_t drain(WatchSink& sink) override {
    std::size_t events = 0;
    alignas(fanotify_event_metadata) char buffer[64 << 10];
    while (true) {
      const ssize_t got = read(kernel_.get(), buffer, sizeof buffer);
      if (got <= 0) return events;
      auto left = static_cast<std::size_t>(got);
      for (const char* at = buffer; left >= sizeof(fanotify_event_metadata); ++events) {
        // They follow each other without care for where such a thing may lie.
        fanotify_event_metadata event{};
        std::memcpy(&event, at, sizeof event);
        if (event.event_len < sizeof event || event.event_len > left) break;
        try {
          take(event, at, sink);
        } catch (const NotWatchable& trouble) {
          known_.clear();  // of what was looked for
          sink.lost(trouble.why);
        }
        at += event.event_len;
        left -= event.event_len;
      }
    }
  }

 private:
  // The nearest folder above what is not there.
  static TreePath existing(TreePath path) {
    struct stat status {};
    while (!path.is_root() && (stat(path.absolute().c_str(), &status) != 0 || !S_ISDIR(status.st_mode)))
      path = path.parent();
    return path;
  }

  // A folder by what the kernel calls it.
  struct Place {
    TreePath path;
    std::optional<FolderChoice> choice;  // none: the walk does not go into it, but it leads to a source
  };
  struct Root {
    FileHandle folder;  // of that mount
    int mount = 0;      // its number
  };

  // Returns its device.
  dev_t watch(const TreePath& path) {
    FileHandle folder(open(path.absolute().c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    struct statfs facts {};
    struct stat status {};
    if (!folder || fstatfs(folder.get(), &facts) != 0 || fstat(folder.get(), &status) != 0)
      throw NotWatchable{printable(path.absolute()) + ": " + system_reason(errno)};
    alignas(file_handle) char room[sizeof(file_handle) + MAX_HANDLE_SZ];
    auto* own = reinterpret_cast<file_handle*>(room);
    own->handle_bytes = MAX_HANDLE_SZ;
    int mount = 0;
    if (name_to_handle_at(folder.get(), "", own, &mount, AT_EMPTY_PATH) != 0 ||
        fanotify_mark(kernel_.get(), FAN_MARK_ADD | FAN_MARK_FILESYSTEM, what_happens, folder.get(),
                      nullptr) != 0)
      throw NotWatchable{"the file system of " + printable(path.absolute()) +
                         " gives no watch: " + system_reason(errno)};
    std::vector<Root>& roots = roots_[{facts.f_fsid.__val[0], facts.f_fsid.__val[1]}];
    for (const Root& root : roots) {
      if (root.mount == mount) return status.st_dev;
    }
    roots.push_back({std::move(folder), mount});
    return status.st_dev;
  }

  void take(const fanotify_event_metadata& event, const char* bytes, WatchSink& sink) {
    if ((event.mask & FAN_Q_OVERFLOW) != 0)
      return sink.lost("so much happened at once that the kernel lost count");
    const char* end = bytes + event.event_len;
    for (const char* at = bytes + event.metadata_len; at + sizeof(fanotify_event_info_header) <= end;) {
      const auto* head = reinterpret_cast<const fanotify_event_info_header*>(at);
      if (head->len < sizeof *head || at + head->len > end) return;
      if (head->info_type == FAN_EVENT_INFO_TYPE_DFID_NAME) return take_named(event.mask, at, sink);
      at += head->len;
    }
  }

  void take_named(std::uint64_t mask, const char* bytes, WatchSink& sink) {
    const auto* info = reinterpret_cast<const fanotify_event_info_fid*>(bytes);
    const auto* folder = reinterpret_cast<const file_handle*>(info->handle);
    const auto* folder_bytes = reinterpret_cast<const char*>(folder->f_handle);
    const char* name = folder_bytes + folder->handle_bytes;
    const char* end = bytes + info->hdr.len;
    const std::string called(name, name < end ? strnlen(name, static_cast<std::size_t>(end - name)) : 0);
    const bool is_folder = (mask & FAN_ONDIR) != 0;
    std::string key(reinterpret_cast<const char*>(&info->fsid), sizeof info->fsid);
    key.append(reinterpret_cast<const char*>(&folder->handle_type), sizeof folder->handle_type);
    key.append(folder_bytes, folder->handle_bytes);
    if (key.size() + called.size() > 4096) return;
    for (const Place& place : places_of(key, *info, *folder)) happened(place, called, mask, is_folder, sink);
    // Where folders move, what is known of their paths ends; where the tag of a cache comes or goes, whether
    // they count.
    if ((is_folder && (mask & comes_or_goes) != 0) || called == WatchedTree::tag) known_.clear();
  }

  void happened(const Place& place, const std::string& name, std::uint64_t mask, bool is_folder,
                WatchSink& sink) {
    if (name.empty() || name == ".") {
      if (place.choice) sink.happened(place.path, place.path);
      return;
    }
    const TreePath what = place.path.child(name);
    const bool moved = (mask & comes_or_goes) != 0;
    if (!place.choice) {
      if (!tree_.leads_to_source(what)) return;
      if (is_folder && moved) return sink.lost(printable(what.absolute()) + " came or went");
      if (!is_folder) sink.happened(place.path, what);
      return;
    }
    if (!WatchedTree::is_tag(*place.choice, name) && !tree_.counts(*place.choice, what, is_folder)) return;
    sink.happened(place.path, what);
    if (is_folder && (mask & (FAN_CREATE | FAN_MOVED_TO)) != 0) sink.came(what);
  }

  // Where that folder lies now and is of interest; it may be seen in several mounts.
  const std::vector<Place>& places_of(const std::string& key, const fanotify_event_info_fid& info,
                                      const file_handle& folder) {
    constexpr std::size_t most_known = 20000;
    if (known_.size() > most_known) known_.clear();
    auto [at, added] = known_.try_emplace(key);
    if (!added) return at->second;
    std::array<int, 2> file_system{};
    static_assert(sizeof file_system == sizeof info.fsid);
    std::memcpy(file_system.data(), &info.fsid, sizeof file_system);
    auto roots = roots_.find({file_system[0], file_system[1]});
    if (roots == roots_.end()) return at->second;
    std::set<TreePath> seen;
    for (const Root& root : roots->second) {
      const std::optional<TreePath> path = path_of(root, folder);
      if (!path || !seen.insert(*path).second) continue;
      std::optional<FolderChoice> choice = tree_.of_folder(*path);
      if (choice || tree_.leads_to_source(*path)) at->second.push_back({*path, choice});
    }
    return at->second;
  }

  // Nothing when it is gone, or cannot be seen from there.
  std::optional<TreePath> path_of(const Root& root, const file_handle& folder) {
    FileHandle found(open_by_handle_at(root.folder.get(), const_cast<file_handle*>(&folder),
                                       O_PATH | O_DIRECTORY | O_CLOEXEC));
    if (!found) refuse_shortage(errno);
    struct stat status {};
    if (!found || fstat(found.get(), &status) != 0 || status.st_nlink == 0) return std::nullopt;
    char text[PATH_MAX];
    bool whole = true;
    while (true) {
      const std::string link = "/proc/self/fd/" + std::to_string(found.get());
      const ssize_t got = readlink(link.c_str(), text, sizeof text);
      if (got > 0 && got < static_cast<ssize_t>(sizeof text)) {
        if (text[0] != '/') return std::nullopt;
        const std::optional<TreePath> path =
            TreePath::parse(std::string_view(text, static_cast<std::size_t>(got)));
        if (whole || !path) return path;
        if (tree_.of_folder(*path))
          throw NotWatchable{"something happened in " + printable(path->absolute()) +
                             " deeper than a path can tell"};
        return std::nullopt;
      }
      if (got < 0 && errno != ENAMETOOLONG) return std::nullopt;
      // Too long: of the nearest folder above it that has a path.
      whole = false;
      found = FileHandle(openat(found.get(), "..", O_PATH | O_DIRECTORY | O_CLOEXEC));
      if (!found) refuse_shortage(errno);
      if (!found) return std::nullopt;
    }
  }

  WatchedTree& tree_;
  FileHandle kernel_;
  std::map<std::pair<int, int>, std::vector<Root>> roots_;     // by file system
  std::unordered_map<std::string, std::vector<Place>> known_;  // folders met lately
};

}  // namespace

std::unique_ptr<WatchWay> watch_file_systems(WatchedTree& tree) {
  return std::make_unique<FileSystemWatch>(tree);
}

}  // namespace kestrum
