#include "target/attributes.hpp"

#include <fcntl.h>
#include <grp.h>
#include <pwd.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <cerrno>

#include "base/error.hpp"
#include "base/file_handle.hpp"

namespace kestrum {

std::uint32_t OwnerNumbers::user(const std::string& name, std::uint32_t number) {
  if (name.empty()) return number;
  auto [it, added] = users_.try_emplace(name, number);
  if (added) {
    char buffer[4096];
    passwd entry{};
    passwd* found = nullptr;
    if (getpwnam_r(name.c_str(), &entry, buffer, sizeof buffer, &found) == 0 && found != nullptr)
      it->second = found->pw_uid;
  }
  return it->second;
}

std::uint32_t OwnerNumbers::group(const std::string& name, std::uint32_t number) {
  if (name.empty()) return number;
  auto [it, added] = groups_.try_emplace(name, number);
  if (added) {
    std::vector<char> buffer(65536);
    ::group entry{};
    ::group* found = nullptr;
    if (getgrnam_r(name.c_str(), &entry, buffer.data(), buffer.size(), &found) == 0 && found != nullptr)
      it->second = found->gr_gid;
  }
  return it->second;
}

AttributeResult apply_attributes(const TargetObject& object, const FileAttributes& attributes,
                                 OwnerNumbers& owners) {
  AttributeResult result;
  auto complain = [&](const std::string& what) {
    result.complaints.push_back(what + ": " + system_reason(errno));
  };
  const char* name = object.name.c_str();

  std::uint32_t owner = owners.user(attributes.owner_name, attributes.owner);
  std::uint32_t group = owners.group(attributes.group_name, attributes.group);
  struct stat status {};
  if (fstatat(object.folder_fd, name, &status, AT_SYMLINK_NOFOLLOW) != 0) {
    complain("look at it again");
    return result;
  }
  if (status.st_uid != owner || status.st_gid != group) {
    bool done = fchownat(object.folder_fd, name, owner, group, AT_SYMLINK_NOFOLLOW) == 0;
    if (!done && errno == EPERM && status.st_uid == owner) {
      result.owner_kept_back = true;
    } else if (!done && (errno == EPERM || errno == EINVAL) && geteuid() != 0) {
      result.owner_kept_back = true;
      // The group alone may be ours to give.
      if (fchownat(object.folder_fd, name, static_cast<uid_t>(-1), group, AT_SYMLINK_NOFOLLOW) != 0)
        errno = 0;
    } else if (!done) {
      complain("set its owner");
      result.owner_kept_back = true;
    }
  }

  // A handle that names the object itself, so that nothing is opened that must not be.
  FileHandle path_handle(openat(object.folder_fd, name, O_PATH | O_NOFOLLOW | O_CLOEXEC));
  std::string itself = "/proc/self/fd/" + std::to_string(path_handle.get());
  for (const auto& [key, value] : attributes.extended) {
    if (setxattr(itself.c_str(), key.c_str(), value.data(), value.size(), 0) != 0)
      complain("set its attribute " + key);
  }
  if (!object.is_link) {
    std::uint32_t mode = attributes.mode;
    if (result.owner_kept_back) mode &= ~std::uint32_t{S_ISUID | S_ISGID};
    if (chmod(itself.c_str(), mode) != 0) complain("set its mode");
  }
  timespec times[2] = {{0, UTIME_NOW}, {attributes.modified.seconds, attributes.modified.nanoseconds}};
  if (utimensat(object.folder_fd, name, times, AT_SYMLINK_NOFOLLOW) != 0) complain("set its time");
  return result;
}

}  // namespace kestrum
