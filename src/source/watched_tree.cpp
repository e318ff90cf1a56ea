#include "source/watched_tree.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>

#include "base/error.hpp"
#include "base/file_handle.hpp"

namespace kestrum {
namespace {

Selection without_limits(Selection selection) {
  selection.limits = {};
  return selection;
}

}  // namespace

void refuse_shortage(int error) {
  if (error == EMFILE || error == ENFILE || error == ENOMEM)
    throw NotWatchable{"a folder could not be opened: " + system_reason(error)};
}

WatchedTree::WatchedTree(Selection selection)
    : selection_(without_limits(std::move(selection))), chooser_(selection_) {}

FolderChoice WatchedTree::of_source(const TreePath& source, const struct stat& status) const {
  const Place* place = selection_.place_at(source);
  return place == nullptr ? FolderChoice() : chooser_.choose_place(*place, status).inside;
}

bool WatchedTree::is_shut(const struct stat& status, int fd) {
  const FolderIdentity identity{status.st_dev, status.st_ino};
  const std::vector<FolderIdentity>& excluded = selection_.excluded;
  if (std::find(excluded.begin(), excluded.end(), identity) != excluded.end()) return true;
  return filesystems_.at(filesystems_.ordinal(status.st_dev, fd)).is_kernel_view();
}

std::optional<FolderChoice> WatchedTree::of_child(const FolderChoice& parent, const TreePath& path,
                                                  const struct stat& status, int fd) {
  Choice choice = chooser_.choose(parent, path, status);
  if (!choice.enter || is_shut(status, fd)) return std::nullopt;
  // Of a tagged one nothing in it is taken; but that the tag goes must be noticed.
  const bool may_be_tagged =
      !selection_.tagged_caches && !choice.inside.places_below && choice.reason != Reason::place;
  if (may_be_tagged && is_tagged_cache(fd)) choice.inside.only_places = true;
  return choice.inside;
}

bool WatchedTree::is_tag(const FolderChoice& folder, std::string_view name) {
  return folder.only_places && !folder.places_below && name == tag;
}

std::optional<FolderChoice> WatchedTree::of_folder(const TreePath& folder) {
  const TreePath* source = source_of(folder);
  if (source == nullptr) return std::nullopt;
  std::optional<FolderChoice> inside;
  TreePath at = *source;
  FileHandle handle;
  auto step = [&](int above, const std::string& name) {
    handle = FileHandle(openat(above, name.c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
    struct stat status {};
    if (!handle) refuse_shortage(errno);
    if (!handle || fstat(handle.get(), &status) != 0) return false;
    inside = inside ? of_child(*inside, at, status, handle.get()) : of_source(at, status);
    return inside.has_value();
  };
  if (!step(AT_FDCWD, at.absolute())) return std::nullopt;
  for (const std::string& name : folder.below(*source).components()) {
    at = at.child(name);
    const FileHandle above = std::move(handle);
    if (!step(above.get(), name)) return std::nullopt;
  }
  return inside;
}

bool WatchedTree::counts(const FolderChoice& parent, const TreePath& path, bool is_folder) const {
  struct stat status {};
  status.st_mode = is_folder ? S_IFDIR : S_IFREG;
  status.st_dev = parent.device;
  const Choice choice = chooser_.choose(parent, path, status);
  return choice.taken || choice.enter;
}

const TreePath* WatchedTree::source_of(const TreePath& path) const {
  for (const TreePath& source : selection_.sources) {
    if (path.is_within(source)) return &source;
  }
  return nullptr;
}

bool WatchedTree::leads_to_source(const TreePath& path) const {
  return std::any_of(selection_.sources.begin(), selection_.sources.end(),
                     [&](const TreePath& source) { return source.is_within(path); });
}

}  // namespace kestrum
