#include "engine/disk_side.hpp"

#include <fcntl.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>

#include "base/open_beneath.hpp"
#include "engine/comparison.hpp"

namespace kestrum {

Selection narrowed(Selection selection, const TreePath& path) {
  std::vector<TreePath> sources;
  for (const TreePath& source : selection.sources) {
    if (source.is_within(path)) sources.push_back(source);
  }
  // Else the place that it is in decides how much is taken.
  if (sources.empty()) {
    Place here{path, true, 0};
    for (const Place& place : selection.places) {
      if (path.is_within(place.path)) here = {path, place.whole, place.category};
    }
    if (selection.place_at(path) == nullptr) {
      const auto behind = std::upper_bound(selection.places.begin(), selection.places.end(), here,
                                           [](const Place& a, const Place& b) { return a.path < b.path; });
      selection.places.insert(behind, here);
    }
    sources.push_back(path);
  }
  selection.sources = std::move(sources);
  return selection;
}

DiskSide::DiskSide(const Selection& selection, const std::vector<Filesystem>& known, const TreePath& within,
                   std::function<void(const Problem&)> problem)
    : filesystems_(known),
      within_(within),
      walker_(selection, filesystems_, std::move(problem), [](const std::string&) {}) {}

std::optional<Entry> DiskSide::next() {
  do {
    last_ = walker_.next();
    if (last_ == nullptr) return std::nullopt;
  } while (!last_->path.is_within(within_) || !last_->unlooked.empty());
  const struct stat& status = last_->status;
  Entry entry;
  entry.path = last_->path;
  entry.type = last_->device ? EntryType::device_image : type_of(status);
  entry.above_source = last_->above_source;
  entry.incomplete = last_->unlisted || last_->partly_listed;
  constexpr unsigned permission_bits = 07777;
  entry.mode = status.st_mode & permission_bits;
  entry.owner = status.st_uid;
  entry.group = status.st_gid;
  entry.modified = {status.st_mtim.tv_sec, static_cast<std::int32_t>(status.st_mtim.tv_nsec)};
  entry.changed = {status.st_ctim.tv_sec, static_cast<std::int32_t>(status.st_ctim.tv_nsec)};
  if (entry.has_content()) entry.size = static_cast<std::uint64_t>(status.st_size);
  entry.filesystem = last_->filesystem;
  entry.inode = status.st_ino;
  if (entry.type == EntryType::symlink) {
    entry.link_target.resize(static_cast<std::size_t>(std::max<off_t>(status.st_size, 4096)));
    const ssize_t length = readlinkat(last_->folder->get(), last_->name.c_str(), entry.link_target.data(),
                                      entry.link_target.size());
    entry.link_target.resize(length < 0 ? 0 : static_cast<std::size_t>(length));
  }
  if (entry.type == EntryType::char_device || entry.type == EntryType::block_device) {
    entry.device_major = major(status.st_rdev);
    entry.device_minor = minor(status.st_rdev);
  }
  return entry;
}

FileHandle DiskSide::open_last() const {
  return open_beneath(last_->folder->get(), last_->name, O_RDONLY);
}

}  // namespace kestrum
