#include "base/filesystem_uuid.hpp"

#include <linux/fs.h>
#include <sys/ioctl.h>

#include <algorithm>
#include <cstdint>

#include "base/bytes.hpp"

#ifndef FS_IOC_GETFSUUID
// Linux 6.9; Debian 12's headers are older. ENOTTY from file systems and kernels that do not answer.
struct kestrum_fsuuid2 {
  std::uint8_t len;
  std::uint8_t uuid[16];
};
#define FS_IOC_GETFSUUID _IOR(0x15, 0, struct kestrum_fsuuid2)
#else
using kestrum_fsuuid2 = struct fsuuid2;
#endif

namespace kestrum {

std::string filesystem_uuid(int folder_fd) {
  kestrum_fsuuid2 answer{};
  if (ioctl(folder_fd, FS_IOC_GETFSUUID, &answer) != 0 || answer.len != 16) return {};
  if (std::all_of(answer.uuid, answer.uuid + 16, [](std::uint8_t byte) { return byte == 0; })) return {};
  std::string hex = to_hex({answer.uuid, 16});
  for (std::size_t at : {8u, 13u, 18u, 23u}) hex.insert(at, "-");
  return hex;
}

}  // namespace kestrum
