#include "base/open_beneath.hpp"

#include <fcntl.h>
#include <linux/openat2.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cerrno>

#include "base/text.hpp"

namespace kestrum {
namespace {

bool same_filesystem(int a, int b) {
  struct stat one {
  }, other{};
  return fstat(a, &one) == 0 && fstat(b, &other) == 0 && one.st_dev == other.st_dev;
}

// Each step opens one component that is no link.
FileHandle step_by_step(int folder_fd, const std::string& path, int flags, unsigned mode,
                        bool one_filesystem) {
  FileHandle at(openat(folder_fd, ".", O_PATH | O_DIRECTORY | O_CLOEXEC));
  std::vector<std::string> parts = split(path, '/');
  for (std::size_t i = 0; at && i < parts.size(); ++i) {
    bool last = i + 1 == parts.size();
    if (parts[i].empty() || parts[i] == "..") {
      errno = EXDEV;
      return {};
    }
    int how = last ? flags | O_CLOEXEC | O_NOFOLLOW : O_PATH | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW;
    at = FileHandle(openat(at.get(), parts[i].c_str(), how, mode));
    if (at && one_filesystem && !same_filesystem(folder_fd, at.get())) {
      errno = EXDEV;
      return {};
    }
  }
  return at;
}

}  // namespace

FileHandle open_beneath(int folder_fd, const std::string& path, int flags, unsigned mode,
                        bool one_filesystem) {
  const std::string name = path.empty() ? "." : path;
  bool one_component = name.find('/') == std::string::npos && name != "..";
  // Nothing to leave by: the plain call is a good deal cheaper.
  if (one_component && !one_filesystem)
    return FileHandle(openat(folder_fd, name.c_str(), flags | O_CLOEXEC | O_NOFOLLOW, mode));
  open_how how{};
  how.flags = static_cast<std::uint64_t>(flags | O_CLOEXEC | O_NOFOLLOW);
  how.mode = mode;
  how.resolve = RESOLVE_BENEATH | RESOLVE_NO_SYMLINKS | RESOLVE_NO_MAGICLINKS;
  if (one_filesystem) how.resolve |= RESOLVE_NO_XDEV;
  // EAGAIN: something was renamed elsewhere on the way.
  for (int attempt = 0; attempt < 64; ++attempt) {
    long fd = syscall(SYS_openat2, folder_fd, name.c_str(), &how, sizeof how);
    if (fd >= 0) return FileHandle(static_cast<int>(fd));
    if (errno == ENOSYS) return step_by_step(folder_fd, name, flags, mode, one_filesystem);
    if (errno != EAGAIN && errno != EINTR) break;
  }
  return {};
}

}  // namespace kestrum
