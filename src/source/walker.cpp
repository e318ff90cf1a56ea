#include "source/walker.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <climits>
#include <cstdlib>
#include <memory>

#include "base/error.hpp"
#include "base/text.hpp"
#include "source/block_device.hpp"

namespace kestrum {
namespace {

// The path with symlinks resolved, as far as it exists.
std::string resolved(const std::string& path) {
  std::unique_ptr<char, void (*)(void*)> real(realpath(path.c_str(), nullptr), std::free);
  return real ? std::string(real.get()) : path;
}

}  // namespace

Selection make_selection(const std::vector<std::string>& folders, const std::vector<std::string>& skip,
                         const std::function<void(const std::string&)>& note) {
  Selection selection;
  selection.skip = SkipRules(skip);
  std::vector<TreePath> all;
  for (const std::string& folder : folders) {
    std::optional<TreePath> path = folder.starts_with('/') ? TreePath::parse(folder) : std::nullopt;
    if (!path) {
      throw Error(ErrorKind::usage, "the source '" + printable(folder) + "' is not an absolute path",
                  "write it from the root, like /srv/ringing, without '..'");
    }
    if (std::optional<TreePath> device = device_source(path->absolute())) {
      all.push_back(*device);
      continue;
    }
    std::string real = resolved(path->absolute());
    if (real != path->absolute()) {
      note("the source " + printable(path->absolute()) + " is really " + printable(real) +
           ", which is saved");
      path = TreePath::parse(real);
    }
    all.push_back(*path);
  }
  std::sort(all.begin(), all.end());
  for (const TreePath& path : all) {
    if (!selection.sources.empty() && path.is_within(selection.sources.back())) {
      note("the source " + printable(path.absolute()) + " lies in " +
           printable(selection.sources.back().absolute()) + " and is taken once");
      continue;
    }
    selection.sources.push_back(path);
  }
  return selection;
}

Walker::Walker(const Selection& selection, FilesystemTable& filesystems, OnProblem on_problem, OnNote on_note)
    : selection_(selection),
      filesystems_(filesystems),
      on_problem_(std::move(on_problem)),
      on_note_(std::move(on_note)) {}

void Walker::problem(const TreePath& path, const char* operation, const std::string& reason) {
  on_problem_({path.absolute(), operation, reason});
}

bool Walker::look_at(std::string name, const std::shared_ptr<const FileHandle>& folder, TreePath path,
                     bool is_source) {
  now_.path = std::move(path);
  now_.name = std::move(name);
  now_.folder = folder;
  now_.own.reset();
  now_.above_source = now_.unlisted = now_.device = false;
  now_.filesystem = 0;
  if (fstatat(folder->get(), now_.name.c_str(), &now_.status, AT_SYMLINK_NOFOLLOW) != 0) {
    if (errno == ENOENT && !is_source) {
      problem(now_.path, "read", "it vanished while its folder was being read");
    } else {
      problem(now_.path, "look at", errno == ENOENT ? "this source is not there" : system_reason(errno));
    }
    return false;
  }
  bool is_folder = S_ISDIR(now_.status.st_mode);
  FolderIdentity identity{now_.status.st_dev, now_.status.st_ino};
  if (is_folder && std::find(selection_.excluded.begin(), selection_.excluded.end(), identity) !=
                       selection_.excluded.end()) {
    on_note_("the destination " + printable(now_.path.absolute()) + " lies inside a source and is left out");
    return false;
  }
  return is_source || selection_.skip.skipping(now_.path, is_folder) == nullptr;
}

// When the source at hand is a block device, or a link to one, takes it as an image. False when it must not
// be.
bool Walker::look_at_device() {
  struct stat target {};
  if (fstatat(now_.folder->get(), now_.name.c_str(), &target, 0) != 0 || !S_ISBLK(target.st_mode))
    return true;
  for (const FolderIdentity& excluded : selection_.excluded) {
    if (excluded.device != target.st_rdev) continue;
    problem(now_.path, "read", "the destination lies on this device, which would be saved into itself");
    return false;
  }
  FileHandle handle(openat(now_.folder->get(), now_.name.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
  std::optional<std::uint64_t> size = handle ? device_size(handle.get()) : std::nullopt;
  if (!size) {
    problem(now_.path, "read", system_reason(errno));
    return false;
  }
  now_.status = target;
  now_.status.st_size = static_cast<off_t>(*size);
  now_.device = true;
  return true;
}

const Walked* Walker::next() {
  while (true) {
    if (pending_enter_) {
      pending_enter_ = false;
      enter();
      continue;
    }
    if (!stack_.empty()) {
      Folder& folder = stack_.back();
      if (folder.at == folder.names.size()) {
        leave();
        continue;
      }
      std::string name = std::move(folder.names[folder.at++]);
      TreePath path = folder.path.child(name);
      if (!look_at(std::move(name), folder.handle, std::move(path), false)) continue;
      now_.filesystem = folder.filesystem;
    } else if (!start_source()) {
      return nullptr;
    } else if (now_.name.empty()) {
      continue;
    }
    if (now_.above_source || !S_ISDIR(now_.status.st_mode)) {
      if (now_.status.st_dev != 0 && !S_ISDIR(now_.status.st_mode) && stack_.empty()) {
        now_.filesystem = filesystems_.ordinal(now_.status.st_dev, now_.folder->get());
      }
      return &now_;
    }
    auto handle = std::make_shared<FileHandle>(
        openat(now_.folder->get(), now_.name.c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
    if (!*handle) {
      problem(now_.path, "list", system_reason(errno));
      now_.unlisted = true;
      return &now_;
    }
    now_.filesystem = filesystems_.ordinal(now_.status.st_dev, handle->get());
    if (filesystems_.at(now_.filesystem).is_kernel_view()) {
      on_note_(printable(now_.path.absolute()) + " is the kernel's own view (" +
               filesystems_.at(now_.filesystem).type + ") and is left out");
      continue;
    }
    now_.own = std::move(handle);
    pending_enter_ = true;
    return &now_;
  }
}

// Shows the ancestors of the next source, then the source. False when there are no more; leaves now_.name
// empty when a source could not be looked at.
bool Walker::start_source() {
  while (source_ < selection_.sources.size()) {
    const TreePath& source = selection_.sources[source_];
    TreePath wanted = source;
    // The topmost ancestor that was not shown yet.
    while (!wanted.is_root()) {
      TreePath up = wanted.parent();
      if (shown_ && shown_->is_within(up)) break;
      wanted = up;
    }
    bool is_source = wanted == source;
    TreePath parent = wanted.parent();
    std::string name = wanted.is_root() ? "." : std::string(wanted.name());
    auto above =
        std::make_shared<FileHandle>(open(parent.absolute().c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
    if (is_source) ++source_;
    shown_ = wanted;
    now_.name.clear();
    if (!*above) {
      if (is_source)
        problem(source, "look at", errno == ENOENT ? "this source is not there" : system_reason(errno));
      continue;
    }
    // An ancestor that is missing is told of once, as the source below it.
    bool there = look_at(name, above, wanted, true) && (!is_source || look_at_device());
    if (!there) {
      now_.name.clear();
      continue;
    }
    now_.above_source = !is_source;
    if (now_.above_source) {
      FileHandle own(openat(above->get(), name.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
      now_.filesystem = filesystems_.ordinal(now_.status.st_dev, own ? own.get() : above->get());
    }
    return true;
  }
  return false;
}

void Walker::enter() {
  Folder folder;
  folder.path = now_.path;
  folder.handle = now_.own;
  folder.identity = {now_.status.st_dev, now_.status.st_ino};
  folder.filesystem = now_.filesystem;
  if (!list(folder)) return;
  if (stack_.size() >= open_folders) stack_[stack_.size() - open_folders].handle.reset();
  stack_.push_back(std::move(folder));
}

bool Walker::list(Folder& folder) {
  // A handle of its own for the listing: closedir would close ours.
  int copy = openat(folder.handle->get(), ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  DIR* dir = copy < 0 ? nullptr : fdopendir(copy);
  if (dir == nullptr) {
    problem(folder.path, "list", system_reason(errno));
    return false;
  }
  std::unique_ptr<DIR, int (*)(DIR*)> closer(dir, closedir);
  errno = 0;
  while (dirent* item = readdir(dir)) {
    std::string_view name = item->d_name;
    if (name != "." && name != "..") folder.names.emplace_back(name);
    errno = 0;
  }
  if (errno != 0) problem(folder.path, "list", system_reason(errno));
  std::sort(folder.names.begin(), folder.names.end());  // char_traits compares as unsigned bytes
  return true;
}

void Walker::leave() {
  Folder done = std::move(stack_.back());
  stack_.pop_back();
  if (stack_.empty() || stack_.back().handle) return;
  Folder& up = stack_.back();
  auto handle =
      std::make_shared<FileHandle>(openat(done.handle->get(), "..", O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  struct stat status {};
  bool same = *handle && fstat(handle->get(), &status) == 0 &&
              FolderIdentity{status.st_dev, status.st_ino} == up.identity;
  up.handle = std::move(handle);
  if (!same) {
    problem(up.path, "list", "it was moved while it was being read; the rest of it was not seen");
    up.names.clear();
    up.at = 0;
  }
}

}  // namespace kestrum
