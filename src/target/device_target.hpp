// A block device that an image is written back to, over everything that is on it.
#pragma once

#include <cstdint>
#include <string>

#include "base/file_handle.hpp"

namespace kestrum {

class DeviceTarget {
 public:
  // Follows links, as /dev/disk/by-label/tern is one. Throws Error of kind failed when it is no block device,
  // smaller than `image_bytes`, mounted or otherwise in use, or cannot be opened for writing.
  DeviceTarget(const std::string& path, std::uint64_t image_bytes);

  // At the current position. Errors are errno values.
  int write(ByteView data);
  int zeros(std::uint64_t length);
  // Flushes to the device and closes.
  int close();

 private:
  FileHandle file_;
};

}  // namespace kestrum
