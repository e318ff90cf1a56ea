#include "engine/disk_today.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <string_view>

#include "base/error.hpp"
#include "base/open_beneath.hpp"

namespace kestrum {
namespace {

bool same_type(EntryType type, mode_t mode) {
  switch (type) {
    case EntryType::folder:
      return S_ISDIR(mode);
    case EntryType::file:
      return S_ISREG(mode);
    case EntryType::symlink:
      return S_ISLNK(mode);
    case EntryType::fifo:
      return S_ISFIFO(mode);
    case EntryType::char_device:
      return S_ISCHR(mode);
    case EntryType::block_device:
      return S_ISBLK(mode);
    case EntryType::socket:
      return S_ISSOCK(mode);
    case EntryType::device_image:
      return S_ISBLK(mode) || S_ISLNK(mode);
  }
  return false;
}

bool same_link(const Entry& entry, int folder, const std::string& name) {
  std::string target(entry.link_target.size() + 1, '\0');
  const ssize_t length = readlinkat(folder, name.c_str(), target.data(), target.size());
  return length >= 0 &&
         std::string_view(target.data(), static_cast<std::size_t>(length)) == entry.link_target;
}

}  // namespace

std::string_view today_word(Today today) {
  static constexpr std::string_view words[] = {"unknown", "same", "different", "gone"};
  return words[static_cast<std::size_t>(today)];
}

DiskToday::DiskToday(bool here) {
  if (here) view_.emplace("/");
}

DiskToday::There DiskToday::there(const TreePath& path) {
  Entry folder;
  folder.path = path;
  folder.type = EntryType::folder;
  const Today today = look(folder);
  return today == Today::same ? There::folder : today == Today::differs ? There::other : There::nothing;
}

Today DiskToday::look(const Entry& entry) {
  if (!view_) return Today::unknown;
  if (entry.path.is_root()) return Today::same;
  struct stat status {};
  const std::string name(entry.path.name());
  int folder = -1;
  try {
    folder = view_->folder(entry.path.parent());
  } catch (const Error& error) {
    return error.system_code() == 0 ? Today::gone : Today::unknown;  // no folder any more
  }
  if (folder < 0) return Today::gone;
  if (fstatat(folder, name.c_str(), &status, AT_SYMLINK_NOFOLLOW) != 0)
    return errno == ENOENT ? Today::gone : Today::unknown;
  if (!same_type(entry.type, status.st_mode)) return Today::differs;
  if (entry.type == EntryType::symlink) return same_link(entry, folder, name) ? Today::same : Today::differs;
  if (entry.type != EntryType::file) return Today::same;
  const bool same = static_cast<std::uint64_t>(status.st_size) == entry.size &&
                    status.st_mtim.tv_sec == entry.modified.seconds &&
                    status.st_mtim.tv_nsec == entry.modified.nanoseconds;
  return same ? Today::same : Today::differs;
}

FileHandle DiskToday::open(const Entry& entry) {
  if (!view_ || entry.path.is_root()) return {};
  try {
    const int folder = view_->folder(entry.path.parent());
    if (folder < 0) return {};
    return open_beneath(folder, std::string(entry.path.name()), O_RDONLY | O_NOFOLLOW | O_NONBLOCK);
  } catch (const Error&) {
    return {};
  }
}

}  // namespace kestrum
