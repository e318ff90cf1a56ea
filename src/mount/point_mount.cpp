#define FUSE_USE_VERSION 35
#include "mount/point_mount.hpp"

#include <fuse.h>
#include <fuse_lowlevel.h>
#include <poll.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <list>
#include <set>

#include "base/mount_table.hpp"
#include "base/shell_command.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "mount/point_tree.hpp"

namespace kestrum {
namespace {

// As mount tables show it.
constexpr const char* mount_kind = "fuse.kestrum";
constexpr unsigned most_read = 1u << 20;  // bytes in one call

// All that the file system's calls work on.
class Shown {
 public:
  Shown(std::vector<LookSession>& sessions, const std::vector<ShownPoint>& points,
        const std::function<void(const std::string&)>& trouble)
      : sessions_(sessions), points_(points), trouble_(trouble) {}

  bool single() const { return points_.size() == 1 && points_[0].name.empty(); }
  const std::vector<ShownPoint>& points() const { return points_; }

  // The point that a path leads into, and the path in it; nothing at the top of several, or where none is.
  struct Place {
    std::shared_ptr<PointTree> tree;
    TreePath path;
  };
  std::optional<Place> place(std::string_view text) {
    std::optional<TreePath> path = TreePath::parse(text);
    if (!path) return std::nullopt;
    if (single()) return Place{tree(0), std::move(*path)};
    if (path->is_root()) return std::nullopt;
    const std::string first = path->components().front();
    for (std::size_t i = 0; i < points_.size(); ++i) {
      if (points_[i].name == first) return Place{tree(i), path->below(TreePath().child(first))};
    }
    return std::nullopt;
  }

  // Told once of each; the number for the caller of the file system.
  int fail(const char* path, const Error& error) {
    if (told_.size() < most_told && told_.insert(path).second)
      trouble_(printable(path) + ": " + error.what());
    return error.system_code() != 0 ? -error.system_code() : -EIO;
  }

 private:
  static constexpr std::size_t most_told = 1000;

  // Few are kept, as each holds frames; files that are open hold on to theirs.
  std::shared_ptr<PointTree> tree(std::size_t point) {
    constexpr std::size_t most_trees = 4;
    for (auto kept = trees_.begin(); kept != trees_.end(); ++kept) {
      if (kept->first != point) continue;
      trees_.splice(trees_.begin(), trees_, kept);
      return trees_.front().second;
    }
    const ShownPoint& wanted = points_[point];
    trees_.emplace_front(point,
                         std::make_shared<PointTree>(sessions_[wanted.session], wanted.facts.sequence));
    if (trees_.size() > most_trees) trees_.pop_back();
    return trees_.front().second;
  }

  std::vector<LookSession>& sessions_;
  const std::vector<ShownPoint>& points_;
  const std::function<void(const std::string&)>& trouble_;
  std::list<std::pair<std::size_t, std::shared_ptr<PointTree>>> trees_;  // used last comes first
  std::set<std::string> told_;
};

Shown& shown() {
  return *static_cast<Shown*>(fuse_get_context()->private_data);
}

void fill(struct stat& out, const ShownItem& item) {
  std::memset(&out, 0, sizeof out);
  const auto kind = [&]() -> mode_t {
    switch (item.type) {
      case EntryType::folder:
        return S_IFDIR;
      case EntryType::symlink:
        return S_IFLNK;
      case EntryType::fifo:
        return S_IFIFO;
      case EntryType::socket:
        return S_IFSOCK;
      case EntryType::char_device:
        return S_IFCHR;
      case EntryType::block_device:
        return S_IFBLK;
      default:
        return S_IFREG;
    }
  }();
  // Nothing here gains rights, and nothing can be written.
  constexpr mode_t given_rights = 07000, write_bits = 0222;
  out.st_mode = kind | (item.mode & ~given_rights & ~write_bits);
  out.st_nlink = item.type == EntryType::folder ? 2 : 1;
  out.st_uid = item.owner;
  out.st_gid = item.group;
  out.st_size = static_cast<off_t>(item.size);
  constexpr std::uint64_t sector = 512;
  out.st_blocks = static_cast<blkcnt_t>((item.size + sector - 1) / sector);
  out.st_mtim = {item.modified.seconds, item.modified.nanoseconds};
  out.st_atim = out.st_ctim = out.st_mtim;
}

ShownItem top_item(const ShownPoint& point) {
  return {point.name, EntryType::folder, 0755, 0, 0, point.facts.started, 0};
}

// What a call of the file system throws becomes a number.
template <typename Call>
int answered(const char* path, Call&& call) {
  try {
    return call();
  } catch (const Error& error) {
    return shown().fail(path, error);
  } catch (const std::bad_alloc&) {
    return -ENOMEM;
  } catch (...) {
    return -EIO;
  }
}

int get_attributes(const char* path, struct stat* out, fuse_file_info*) {
  return answered(path, [&] {
    const std::optional<Shown::Place> place = shown().place(path);
    if (!place) {
      if (std::string_view(path) != "/" || shown().points().empty()) return -ENOENT;
      ShownItem top = top_item(shown().points().back());
      fill(*out, top);
      return 0;
    }
    const std::optional<ShownItem> item = place->tree->item(place->path);
    if (!item) return -ENOENT;
    fill(*out, *item);
    return 0;
  });
}

// From the item on that `from` counts to. A folder that is not listed whole ends with an error, so that
// nobody who copies it takes what is there for all.
int read_folder(const char* path, void* buffer, fuse_fill_dir_t add, off_t from, fuse_file_info*,
                fuse_readdir_flags) {
  return answered(path, [&] {
    const std::optional<Shown::Place> place = shown().place(path);
    struct stat status {};
    // False when there is no room for more.
    const auto give = [&](const ShownItem& item, std::size_t at) {
      fill(status, item);
      return add(buffer, item.name.c_str(), &status, static_cast<off_t>(at + 1), FUSE_FILL_DIR_PLUS) == 0;
    };
    const auto begin = static_cast<std::size_t>(from);
    if (!place) {
      if (std::string_view(path) != "/") return -ENOENT;
      const std::vector<ShownPoint>& points = shown().points();
      for (std::size_t at = begin; at < points.size() && give(top_item(points[at]), at);) ++at;
      return 0;
    }
    const std::shared_ptr<const ShownFolder> folder = place->tree->folder(place->path);
    if (!folder) return -ENOENT;
    const std::vector<ShownItem>& items = folder->items;
    if (begin >= items.size() && !folder->gaps.empty()) {
      const ShownFolder::Gap& gap = folder->gaps.front();
      return shown().fail(path, damage(gap_text(gap.range.from, gap.range.until, gap.reason)));
    }
    for (std::size_t at = begin; at < items.size() && give(items[at], at);) ++at;
    return 0;
  });
}

int read_link(const char* path, char* out, std::size_t size) {
  return answered(path, [&] {
    const std::optional<Shown::Place> place = shown().place(path);
    const std::optional<Entry> entry = place ? place->tree->entry(place->path) : std::nullopt;
    if (!entry) return -ENOENT;
    if (entry->type != EntryType::symlink) return -EINVAL;
    const std::size_t length = std::min(size - 1, entry->link_target.size());
    std::memcpy(out, entry->link_target.data(), length);
    out[length] = '\0';
    return 0;
  });
}

int open_file(const char* path, fuse_file_info* info) {
  return answered(path, [&] {
    if ((info->flags & O_ACCMODE) != O_RDONLY) return -EROFS;
    const std::optional<Shown::Place> place = shown().place(path);
    std::optional<Entry> entry = place ? place->tree->entry(place->path) : std::nullopt;
    if (!entry) return -ENOENT;
    if (!entry->has_content()) return -EACCES;
    info->fh = reinterpret_cast<std::uint64_t>(new PointTree::File(place->tree, std::move(*entry)));
    info->keep_cache = 1;  // it never changes
    return 0;
  });
}

int read_file(const char* path, char* out, std::size_t size, off_t offset, fuse_file_info* info) {
  return answered(path, [&] {
    auto& file = *reinterpret_cast<PointTree::File*>(info->fh);
    return static_cast<int>(
        file.read(static_cast<std::uint64_t>(offset), {reinterpret_cast<std::uint8_t*>(out), size}));
  });
}

int close_file(const char*, fuse_file_info* info) {
  delete reinterpret_cast<PointTree::File*>(info->fh);
  return 0;
}

void* begin(fuse_conn_info* connection, fuse_config* config) {
  config->kernel_cache = 1;
  config->use_ino = 0;
  constexpr double a_while = 3600;  // seconds that the kernel need not ask again: nothing changes
  config->entry_timeout = config->attr_timeout = a_while;
  config->negative_timeout = a_while;
  connection->max_readahead = connection->max_read = most_read;
  return fuse_get_context()->private_data;
}

fuse_operations operations() {
  fuse_operations calls{};
  calls.getattr = get_attributes;
  calls.readdir = read_folder;
  calls.readlink = read_link;
  calls.open = open_file;
  calls.read = read_file;
  calls.release = close_file;
  calls.init = begin;
  return calls;
}

void expect_empty_folder(const std::string& on) {
  std::error_code code;
  if (!std::filesystem::is_directory(on, code))
    throw Error(ErrorKind::usage, printable(on) + " is no folder",
                "create an empty one, and name it with --on");
  if (!std::filesystem::is_empty(on, code) || code)
    throw Error(ErrorKind::usage, "the folder " + printable(on) + " is not empty, or cannot be read",
                "name an empty one with --on");
}

bool drives_are_there(const std::vector<LookSession>& sessions) {
  return std::all_of(sessions.begin(), sessions.end(),
                     [](const LookSession& session) { return session.store().still_there(); });
}

// The library's session, taken down with this.
class Session {
 public:
  Session(Shown& what, const std::string& on) {
    const bool root = geteuid() == 0;
    std::vector<std::string> words{"kestrum", "-o",
                                   std::string("ro,nosuid,nodev,fsname=kestrum,subtype=kestrum,max_read=") +
                                       std::to_string(most_read) +
                                       (root ? ",allow_other,default_permissions" : "")};
    std::vector<char*> raw;
    for (std::string& word : words) raw.push_back(word.data());
    fuse_args arguments = FUSE_ARGS_INIT(static_cast<int>(raw.size()), raw.data());
    static const fuse_operations calls = operations();
    fuse_ = fuse_new(&arguments, &calls, sizeof calls, &what);
    fuse_opt_free_args(&arguments);
    if (fuse_ == nullptr || fuse_mount(fuse_, on.c_str()) != 0) {
      if (fuse_ != nullptr) fuse_destroy(fuse_);
      throw Error(ErrorKind::failed, "cannot show anything on " + printable(on) + ": FUSE refuses",
                  "the package fuse3 must be installed, and /dev/fuse be there");
    }
  }
  ~Session() {
    fuse_unmount(fuse_);
    fuse_destroy(fuse_);
  }
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;
  fuse_session* get() const { return fuse_get_session(fuse_); }

 private:
  fuse* fuse_ = nullptr;
};

}  // namespace

std::vector<ShownPoint> every_point(std::vector<LookSession>& sessions) {
  std::vector<ShownPoint> points;
  for (std::size_t i = 0; i < sessions.size(); ++i) {
    for (const FoundSet& set : sessions[i].proved_sets()) {
      if (!set.sealed() || set.facts().standing.given_up()) continue;
      std::string date = local_text(set.facts().started);
      std::replace(date.begin(), date.end(), ':', '-');
      std::string drive = sessions.size() > 1 ? " " + sessions[i].drive_name() : std::string();
      std::replace(drive.begin(), drive.end(), '/', '_');
      points.push_back({i, set.facts(), date + drive + " point " + std::to_string(set.facts().sequence)});
    }
  }
  std::sort(points.begin(), points.end(),
            [](const ShownPoint& a, const ShownPoint& b) { return a.name < b.name; });
  return points;
}

MountEnd mount_points(std::vector<LookSession>& sessions, const std::vector<ShownPoint>& points,
                      const std::string& on, RunControl& control, const std::function<void()>& ready,
                      const std::function<void(const std::string&)>& trouble) {
  expect_empty_folder(on);
  Shown what(sessions, points, trouble);
  const Session session(what, on);
  ready();
  fuse_buf buffer{};
  const std::unique_ptr<fuse_buf, void (*)(fuse_buf*)> memory(&buffer,
                                                              [](fuse_buf* used) { std::free(used->mem); });
  auto looked = std::chrono::steady_clock::now();
  constexpr int slice = 200;  // milliseconds
  constexpr std::chrono::seconds often(2);
  while (fuse_session_exited(session.get()) == 0) {
    if (control.stop_requested()) return MountEnd::stopped;
    if (std::chrono::steady_clock::now() - looked > often) {
      if (!drives_are_there(sessions)) return MountEnd::drive_gone;
      looked = std::chrono::steady_clock::now();
    }
    pollfd wait{fuse_session_fd(session.get()), POLLIN, 0};
    if (poll(&wait, 1, slice) <= 0) continue;
    const int got = fuse_session_receive_buf(session.get(), &buffer);
    if (got == -EINTR || got == -EAGAIN) continue;
    if (got <= 0) break;
    fuse_session_process_buf(session.get(), &buffer);
  }
  return MountEnd::closed;
}

void close_mount(const std::string& on) {
  std::error_code code;
  const std::string folder = std::filesystem::weakly_canonical(on, code).string();
  const std::vector<Mount> table = read_mount_table();
  const bool there = std::any_of(table.begin(), table.end(), [&](const Mount& mount) {
    return mount.mount == folder && mount.type == mount_kind;
  });
  if (!there)
    throw Error(ErrorKind::usage, "nothing is open on " + printable(on),
                "see what is: findmnt -t " + std::string(mount_kind));
  if (geteuid() == 0) {
    if (umount2(folder.c_str(), UMOUNT_NOFOLLOW) == 0) return;
    if (errno != EBUSY) throw system_error("close", folder, errno);
  } else {
    RunControl control;
    constexpr std::chrono::seconds limit(20);
    if (run_shell("fusermount3 -u " + shell_word(folder), {}, limit, control).good()) return;
  }
  throw Error(ErrorKind::busy, "a program uses something in " + printable(on),
              "close it, and leave that folder in every terminal; then try again");
}

}  // namespace kestrum
