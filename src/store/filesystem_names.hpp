// Label and UUID of a mounted file system, by whichever way answers: the kernel, the links of the device
// manager, the superblock itself.
#pragma once

#include <string>

#include "base/mount_table.hpp"

namespace kestrum {

struct FilesystemNames {
  std::string label, uuid;  // empty when there is none, or nothing tells; UUIDs in lower case
};

FilesystemNames names_of_filesystem(const Mount& mount);

// By the superblock of a block device: "/dev/sdb1". Empty for who may not read it.
FilesystemNames names_on_device(const std::string& node);

}  // namespace kestrum
