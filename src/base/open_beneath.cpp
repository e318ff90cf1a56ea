#include "base/open_beneath.hpp"

#include <fcntl.h>
#include <linux/openat2.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cerrno>

namespace kestrum {
namespace {

bool on_device(int fd, dev_t device) {
  struct stat status {};
  return fstat(fd, &status) == 0 && status.st_dev == device;
}

// Each step opens one component that is no link.
FileHandle step_by_step(int folder_fd, const std::string& path, int flags, unsigned mode,
                        bool one_filesystem) {
  FileHandle at(openat(folder_fd, ".", O_PATH | O_DIRECTORY | O_CLOEXEC));
  struct stat root {};
  if (at && fstat(at.get(), &root) != 0) return {};
  std::string part;
  for (std::size_t begin = 0; at && begin != std::string::npos;) {
    std::size_t slash = path.find('/', begin);
    bool last = slash == std::string::npos;
    part.assign(path, begin, last ? slash : slash - begin);
    begin = last ? slash : slash + 1;
    if (part.empty() || part == "..") {
      errno = EXDEV;
      return {};
    }
    int how = last ? flags | O_CLOEXEC | O_NOFOLLOW : O_PATH | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW;
    at = FileHandle(openat(at.get(), part.c_str(), how, mode));
    if (at && one_filesystem && !on_device(at.get(), root.st_dev)) {
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
