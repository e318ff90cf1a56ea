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

std::string reason_of_source(int code) {
  return code == ENOENT ? "this source is not there" : system_reason(code);
}

}  // namespace

Walker::Walker(const Selection& selection, FilesystemTable& filesystems, OnProblem on_problem, OnNote on_note,
               OnLeftOut on_left_out, const ChangedFolders* changed)
    : selection_(selection),
      chooser_(selection),
      filesystems_(filesystems),
      on_problem_(std::move(on_problem)),
      on_note_(std::move(on_note)),
      on_left_out_(std::move(on_left_out)),
      changed_(changed) {}

void Walker::problem(const TreePath& path, const char* operation, const std::string& reason) {
  on_problem_({path.absolute(), operation, reason});
}

void Walker::begin_with(std::string name, const std::shared_ptr<const FileHandle>& folder, TreePath path) {
  now_.path = std::move(path);
  now_.name = std::move(name);
  now_.folder = folder;
  now_.own.reset();
  now_.above_source = now_.unlisted = now_.partly_listed = now_.device = now_.maybe_shown = false;
  now_.unlooked.clear();
  now_.filesystem = 0;
}

// False when there is nothing to show of it, or only that it could not be looked at.
bool Walker::look_at(std::string name, const std::shared_ptr<const FileHandle>& folder, TreePath path,
                     bool is_source) {
  begin_with(std::move(name), folder, std::move(path));
  if (!*folder) {
    now_.unlooked = "its folder was moved while it was being read";
    return false;
  }
  if (fstatat(folder->get(), now_.name.c_str(), &now_.status, AT_SYMLINK_NOFOLLOW) != 0) {
    if (changed_ != nullptr && errno == ENOENT && (is_source || !changed_->touches(now_.path))) {
      throw WatchDoubt{printable(now_.path.absolute()) + " is gone, and nothing told of it"};
    } else if (changed_ != nullptr && errno == ENOENT && !changed_->is_whole(now_.path.parent())) {
      // It is gone, as was told.
    } else if (errno == ENOENT && !is_source) {
      problem(now_.path, "read", "it vanished while its folder was being read");
    } else {
      now_.unlooked = reason_of_source(errno);
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
  if (is_source) return true;
  now_.choice = chooser_.choose(stack_.back().choice, now_.path, now_.status);
  bool left_out = !now_.choice.taken || now_.choice.reason == Reason::mounted;
  if (left_out && on_left_out_ && now_.choice.reason != Reason::searched) {
    auto size = S_ISREG(now_.status.st_mode) ? static_cast<std::uint64_t>(now_.status.st_size) : 0;
    on_left_out_({now_.path, is_folder, size, now_.choice});
  }
  return now_.choice.taken || now_.choice.enter;
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
    now_.unlooked = system_reason(errno);
    return false;
  }
  now_.status = target;
  now_.status.st_size = static_cast<off_t>(*size);
  now_.device = true;
  return true;
}

const Walked* Walker::next() {
  if (waiting_.empty()) return find_next();
  shown_now_ = std::move(waiting_.front());
  waiting_.pop_front();
  return &shown_now_;
}

// What was found, after the folders above it that were not shown yet.
const Walked* Walker::show() {
  for (Folder& folder : stack_) {
    if (!folder.unshown) continue;
    waiting_.push_back(std::move(*folder.unshown));
    folder.unshown.reset();
  }
  if (waiting_.empty()) return &now_;
  waiting_.push_back(now_);
  return next();
}

const Walked* Walker::find_next() {
  while (true) {
    if (prepared_) {
      if (stack_.size() >= open_folders_) stack_[stack_.size() - open_folders_].handle.reset();
      stack_.push_back(std::move(*prepared_));
      prepared_.reset();
    }
    if (!stack_.empty()) {
      Folder& folder = stack_.back();
      if (folder.at == folder.names.size()) {
        leave();
        continue;
      }
      std::string name = std::move(folder.names[folder.at++]);
      TreePath path = folder.path.child(name);
      bool seen = look_at(std::move(name), folder.handle, std::move(path), false);
      if (!seen && now_.unlooked.empty()) continue;
      now_.filesystem = folder.filesystem;
    } else if (!start_source()) {
      return nullptr;
    } else if (now_.name.empty()) {
      continue;
    }
    if (!now_.unlooked.empty()) return show();
    if (now_.above_source || !S_ISDIR(now_.status.st_mode)) {
      if (now_.status.st_dev != 0 && !S_ISDIR(now_.status.st_mode) && stack_.empty()) {
        now_.filesystem = filesystems_.ordinal(now_.status.st_dev, now_.folder->get());
      }
      return show();
    }
    auto handle = std::make_shared<FileHandle>(
        openat(now_.folder->get(), now_.name.c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
    if (!*handle) {
      problem(now_.path, "list", system_reason(errno));
      now_.unlisted = true;
      now_.above_source = !now_.choice.taken;
      return show();
    }
    now_.filesystem = filesystems_.ordinal(now_.status.st_dev, handle->get());
    if (filesystems_.at(now_.filesystem).is_kernel_view()) {
      on_note_(printable(now_.path.absolute()) + " is the kernel's own view (" +
               filesystems_.at(now_.filesystem).type + ") and is left out");
      continue;
    }
    now_.own = std::move(handle);
    if (now_.choice.enter) enter();
    if (now_.choice.taken || now_.partly_listed || now_.maybe_shown) return show();
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
    int code = *above ? 0 : errno;
    if (is_source) ++source_;
    shown_ = wanted;
    bool there = code == 0 && look_at(name, above, wanted, true) && (!is_source || look_at_device());
    if (!there) {
      if (code != 0) begin_with(name, above, wanted);
      // Nothing can be kept as it was below what is no folder any more.
      if (code == ENOTDIR && is_source) problem(source, "look at", system_reason(code));
      if (code != 0 && code != ENOTDIR) now_.unlooked = reason_of_source(code);
      if (is_source && !now_.unlooked.empty()) {
        if (changed_ != nullptr)
          throw WatchDoubt{printable(source.absolute()) + " cannot be looked at: " + now_.unlooked};
        return true;
      }
      // An ancestor that is missing is told of once, as the source below it.
      now_.name.clear();
      now_.unlooked.clear();
      continue;
    }
    now_.above_source = !is_source;
    now_.choice = Chooser::above_source();
    if (const Place* place = is_source ? selection_.place_at(source) : nullptr) {
      now_.choice = chooser_.choose_place(*place, now_.status);
      if (!now_.choice.taken && !S_ISDIR(now_.status.st_mode)) now_.name.clear();
    }
    if (now_.above_source) {
      FileHandle own(openat(above->get(), name.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
      now_.filesystem = filesystems_.ordinal(now_.status.st_dev, own ? own.get() : above->get());
    }
    return true;
  }
  return false;
}

// Of a folder in which nothing happened, and nothing below it, no more is to be seen than the folder.
void Walker::enter() {
  const bool look = changed_ == nullptr || changed_->is_changed(now_.path) || changed_->is_whole(now_.path) ||
                    changed_->any_below(now_.path);
  if (look) return prepare();
  now_.maybe_shown = now_.above_source = !now_.choice.taken;
}

void Walker::prepare() {
  // What is in it could not be read back.
  const std::string& joined = now_.path.joined();
  constexpr std::size_t longest_name = 256;
  if (joined.size() + longest_name > most_path_bytes ||
      (joined.size() > most_path_levels &&
       static_cast<std::size_t>(std::count(joined.begin(), joined.end(), '/')) + 2 > most_path_levels))
    return problem(
        now_.path, "look into",
        "it lies deeper than can be saved: " + std::to_string(most_path_levels) + " folders at most");
  Folder folder;
  folder.path = now_.path;
  folder.handle = now_.own;
  folder.identity = {now_.status.st_dev, now_.status.st_ino};
  folder.filesystem = now_.filesystem;
  folder.choice = now_.choice.inside;
  if (changed_ == nullptr || changed_->is_listed(now_.path)) {
    list(folder);
  } else if (!may_be_tagged(folder) || !is_tagged_cache(folder.handle->get())) {
    folder.names = changed_->names_in(now_.path);
  }
  if (!now_.choice.taken) {
    now_.above_source = true;
    now_.maybe_shown = changed_ != nullptr && !now_.partly_listed;
    if (changed_ == nullptr && !now_.partly_listed) folder.unshown = now_;
  }
  prepared_ = std::move(folder);
}

// Of the folder at hand: a tag in it would count.
bool Walker::may_be_tagged(const Folder& folder) const {
  return !selection_.tagged_caches && !folder.choice.places_below && now_.choice.reason != Reason::place;
}

void Walker::list(Folder& folder) {
  // A handle of its own for the listing: closedir would close ours.
  int copy = openat(folder.handle->get(), ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  DIR* dir = copy < 0 ? nullptr : fdopendir(copy);
  if (dir == nullptr) {
    problem(folder.path, "list", system_reason(errno));
    now_.partly_listed = true;
    return;
  }
  std::unique_ptr<DIR, int (*)(DIR*)> closer(dir, closedir);
  errno = 0;
  while (dirent* item = readdir(dir)) {
    std::string_view name = item->d_name;
    if (name != "." && name != "..") folder.names.emplace_back(name);
    errno = 0;
  }
  if (errno != 0) {
    problem(folder.path, "list", system_reason(errno));
    now_.partly_listed = true;
  }
  bool tagged = may_be_tagged(folder) &&
                std::find(folder.names.begin(), folder.names.end(), "CACHEDIR.TAG") != folder.names.end() &&
                is_tagged_cache(folder.handle->get());
  if (tagged) {
    folder.names.clear();
    if (on_left_out_) {
      LeftOut left{folder.path, true, 0, now_.choice};
      left.choice.reason = Reason::tagged;
      on_left_out_(left);
    }
  }
  std::sort(folder.names.begin(), folder.names.end());  // char_traits compares as unsigned bytes
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
  up.handle = same ? std::move(handle) : std::make_shared<FileHandle>();
}

}  // namespace kestrum
