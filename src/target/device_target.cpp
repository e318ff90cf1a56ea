#include "target/device_target.hpp"

#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {

DeviceTarget::DeviceTarget(const std::string& path, std::uint64_t image_bytes) {
  struct stat status {};
  if (stat(path.c_str(), &status) != 0) throw system_error("write back the device", path, errno);
  if (!S_ISBLK(status.st_mode))
    throw Error(ErrorKind::failed, printable(path) + " is no block device: nothing is written to it",
                "restore the image into a folder, with --to");
  // For a block device O_EXCL means: not while it is mounted or part of something else.
  file_ = FileHandle(open(path.c_str(), O_WRONLY | O_EXCL | O_CLOEXEC));
  if (!file_ && errno == EBUSY)
    throw Error(ErrorKind::failed, printable(path) + " is mounted or in use: nothing is written to it",
                "unmount it first");
  if (!file_) throw system_error("write back the device", path, errno);
  std::uint64_t size = 0;
  if (ioctl(file_.get(), BLKGETSIZE64, &size) != 0) throw system_error("measure the device", path, errno);
  if (size < image_bytes)
    throw Error(ErrorKind::failed,
                printable(path) + " holds " + size_text(size) + ", its image has " + size_text(image_bytes) +
                    ": nothing is written to it",
                "restore the image into a folder, with --to");
}

int DeviceTarget::write(ByteView data) {
  return write_full(file_.get(), data) ? 0 : errno;
}

int DeviceTarget::zeros(std::uint64_t length) {
  static const Bytes block(1u << 20, 0);
  while (length > 0) {
    std::size_t part = static_cast<std::size_t>(std::min<std::uint64_t>(length, block.size()));
    if (int code = write(ByteView(block).first(part)); code != 0) return code;
    length -= part;
  }
  return 0;
}

int DeviceTarget::close() {
  if (fsync(file_.get()) != 0) return errno;
  return file_.close();
}

}  // namespace kestrum
