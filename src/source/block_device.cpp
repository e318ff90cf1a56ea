#include "source/block_device.hpp"

#include <linux/fs.h>
#include <sys/ioctl.h>

#include <cerrno>
#include <cstdlib>
#include <memory>

namespace kestrum {

std::optional<TreePath> device_source(const std::string& path) {
  struct stat status {};
  if (stat(path.c_str(), &status) != 0 || !S_ISBLK(status.st_mode)) return std::nullopt;
  std::optional<TreePath> plain = TreePath::parse(path);
  if (!plain || plain->is_root()) return std::nullopt;
  std::unique_ptr<char, void (*)(void*)> folder(realpath(plain->parent().absolute().c_str(), nullptr),
                                                std::free);
  if (!folder) return plain;
  return TreePath::parse(folder.get())->child(std::string(plain->name()));
}

std::optional<std::uint64_t> device_size(int fd) {
  std::uint64_t size = 0;
  if (ioctl(fd, BLKGETSIZE64, &size) != 0) return std::nullopt;
  if (size == 0) {
    errno = ENOMEDIUM;
    return std::nullopt;
  }
  return size;
}

}  // namespace kestrum
