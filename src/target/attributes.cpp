#include "target/attributes.hpp"

#include <fcntl.h>
#include <grp.h>
#include <pwd.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <cerrno>
#include <charconv>
#include <cstdlib>

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
    if (getpwnam_r(name.c_str(), &entry, buffer, sizeof buffer, &found) == 0 && found != nullptr) {
      it->second = found->pw_uid;
    } else {
      unknown_[name] = number;
    }
  }
  return it->second;
}

std::optional<OwnerAccount> find_account(const std::string& name_or_number) {
  char buffer[4096];
  passwd entry{};
  passwd* found = nullptr;
  if (getpwnam_r(name_or_number.c_str(), &entry, buffer, sizeof buffer, &found) == 0 && found != nullptr)
    return OwnerAccount{found->pw_uid, found->pw_gid};
  std::uint32_t number = 0;
  auto [end, code] =
      std::from_chars(name_or_number.data(), name_or_number.data() + name_or_number.size(), number);
  if (code != std::errc() || end != name_or_number.data() + name_or_number.size()) return std::nullopt;
  const bool known = getpwuid_r(number, &entry, buffer, sizeof buffer, &found) == 0 && found != nullptr;
  return OwnerAccount{number, known ? found->pw_gid : number};
}

std::string account_name(std::uint32_t user) {
  char buffer[4096];
  passwd entry{};
  passwd* found = nullptr;
  return getpwuid_r(user, &entry, buffer, sizeof buffer, &found) == 0 && found != nullptr ? found->pw_name
                                                                                          : "";
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

namespace {

using What = AttributeLoss::What;

// Calls on the object through its handle, or by its name where it must not be opened.
class Applied {
 public:
  explicit Applied(const TargetObject& object) : object_(object) {
    if (object.fd >= 0) return;
    // A handle that names the object itself, so that nothing is opened that must not be.
    itself_ = FileHandle(openat(object.folder_fd, object.name.c_str(), O_PATH | O_NOFOLLOW | O_CLOEXEC));
    path_ = "/proc/self/fd/" + std::to_string(itself_.get());
  }
  bool look(struct stat& status) const {
    return (object_.fd >= 0
                ? fstat(object_.fd, &status)
                : fstatat(object_.folder_fd, object_.name.c_str(), &status, AT_SYMLINK_NOFOLLOW)) == 0;
  }
  bool owner(uid_t owner, gid_t group) const {
    return (object_.fd >= 0
                ? fchown(object_.fd, owner, group)
                : fchownat(object_.folder_fd, object_.name.c_str(), owner, group, AT_SYMLINK_NOFOLLOW)) == 0;
  }
  bool attribute(const std::string& name, const std::string& value) const {
    return (object_.fd >= 0 ? fsetxattr(object_.fd, name.c_str(), value.data(), value.size(), 0)
                            : setxattr(path_.c_str(), name.c_str(), value.data(), value.size(), 0)) == 0;
  }
  bool mode(std::uint32_t mode) const {
    return (object_.fd >= 0 ? fchmod(object_.fd, mode) : chmod(path_.c_str(), mode)) == 0;
  }
  bool times(const timespec (&times)[2]) const {
    return (object_.fd >= 0
                ? futimens(object_.fd, times)
                : utimensat(object_.folder_fd, object_.name.c_str(), times, AT_SYMLINK_NOFOLLOW)) == 0;
  }

 private:
  const TargetObject& object_;
  FileHandle itself_;
  std::string path_;
};

}  // namespace

AttributeResult apply_attributes(const TargetObject& object, const FileAttributes& attributes,
                                 OwnerNumbers& owners) {
  AttributeResult result;
  auto lose = [&](What what, const std::string& name = {}) {
    result.losses.push_back({what, name, system_reason(errno)});
  };
  Applied applied(object);
  struct stat status {};
  if (!applied.look(status)) {
    lose(What::look);
    return result;
  }
  std::uint32_t owner = owners.user(attributes.owner_name, attributes.owner);
  std::uint32_t group = owners.group(attributes.group_name, attributes.group);
  bool other = status.st_uid != owner || status.st_gid != group;
  if (other && !attributes.give_owner) {
    result.owner_kept_back = true;
  } else if (other && !applied.owner(owner, group)) {
    result.owner_kept_back = true;
    if (geteuid() == 0) {
      lose(What::owner);
    } else {
      // The group alone may be ours to give.
      applied.owner(static_cast<uid_t>(-1), group);
    }
  }
  for (const auto& [key, value] : attributes.extended) {
    if (!applied.attribute(key, value)) lose(What::attribute, key);
  }
  std::uint32_t mode = attributes.mode;
  if (result.owner_kept_back) mode &= ~std::uint32_t{S_ISUID | S_ISGID};
  bool mode_set = object.is_link || applied.mode(mode);
  if (!mode_set) lose(What::mode);
  timespec times[2] = {{0, UTIME_NOW}, {attributes.modified.seconds, attributes.modified.nanoseconds}};
  bool time_set = applied.times(times);
  if (!time_set) lose(What::time);

  if (!applied.look(status)) {
    lose(What::look);
    return result;
  }
  if (mode_set && !object.is_link && (status.st_mode & 07777) != mode)
    result.losses.push_back({What::mode, {}, "the file system there does not keep it as it was"});
  Instant kept{status.st_mtim.tv_sec, static_cast<std::int32_t>(status.st_mtim.tv_nsec)};
  if (time_set && kept != attributes.modified) {
    bool rounded = std::llabs(kept.seconds - attributes.modified.seconds) <= 2;
    result.losses.push_back({What::time,
                             {},
                             rounded ? "the file system there keeps it only roughly"
                                     : "the file system there cannot hold so far a time"});
  }
  return result;
}

}  // namespace kestrum
