#include "source/file_facts.hpp"

#include <grp.h>
#include <pwd.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

namespace kestrum {
namespace {

// The kernel follows this to the very file of the handle, so it serves links, FIFOs and devices too.
std::string handle_path(int fd) {
  return "/proc/self/fd/" + std::to_string(fd);
}

bool is_kept(std::string_view name) {
  return name.starts_with("user.") || name.starts_with("trusted.") || name == "security.capability" ||
         name == "system.posix_acl_access" || name == "system.posix_acl_default";
}

}  // namespace

const std::string& OwnerNames::user(uid_t id) {
  auto [it, added] = users_.try_emplace(id);
  if (added) {
    char buffer[4096];
    passwd entry{};
    passwd* found = nullptr;
    if (getpwuid_r(id, &entry, buffer, sizeof buffer, &found) == 0 && found != nullptr)
      it->second = found->pw_name;
  }
  return it->second;
}

const std::string& OwnerNames::group(gid_t id) {
  auto [it, added] = groups_.try_emplace(id);
  if (added) {
    std::vector<char> buffer(65536);
    ::group entry{};
    ::group* found = nullptr;
    if (getgrgid_r(id, &entry, buffer.data(), buffer.size(), &found) == 0 && found != nullptr)
      it->second = found->gr_name;
  }
  return it->second;
}

std::optional<std::string> read_link_target(int folder_fd, const std::string& name) {
  std::string target(65536, '\0');
  ssize_t n = readlinkat(folder_fd, name.c_str(), target.data(), target.size());
  if (n < 0) return std::nullopt;
  target.resize(static_cast<std::size_t>(n));
  return target;
}

std::optional<std::vector<std::pair<std::string, std::string>>> read_extended_attributes(int fd) {
  std::vector<std::pair<std::string, std::string>> attributes;
  // Through the handle itself where it is open for reading; one that only marks a place has no such calls.
  std::string path;
  auto list = [&](char* out, std::size_t size) {
    ssize_t n = path.empty() ? flistxattr(fd, out, size) : listxattr(path.c_str(), out, size);
    if (n >= 0 || errno != EBADF || !path.empty()) return n;
    path = handle_path(fd);
    return listxattr(path.c_str(), out, size);
  };
  auto get = [&](const char* name, char* out, std::size_t size) {
    return path.empty() ? fgetxattr(fd, name, out, size) : getxattr(path.c_str(), name, out, size);
  };
  ssize_t size = list(nullptr, 0);
  if (size == 0 || (size < 0 && (errno == ENOTSUP || errno == EOPNOTSUPP))) return attributes;
  if (size < 0) return std::nullopt;
  std::string names(static_cast<std::size_t>(size) + 1024, '\0');
  size = list(names.data(), names.size());
  if (size < 0) return std::nullopt;
  names.resize(static_cast<std::size_t>(size));
  for (std::size_t at = 0; at < names.size();) {
    std::string name = names.c_str() + at;
    at += name.size() + 1;
    if (!is_kept(name)) continue;
    std::string value(65536, '\0');
    ssize_t n = get(name.c_str(), value.data(), value.size());
    if (n < 0 && errno == ENODATA) continue;  // removed meanwhile, or not for us to see
    if (n < 0) return std::nullopt;
    value.resize(static_cast<std::size_t>(n));
    attributes.emplace_back(std::move(name), std::move(value));
  }
  std::sort(attributes.begin(), attributes.end());
  return attributes;
}

}  // namespace kestrum
