// The physical disks behind a device number.
#pragma once

#include <sys/types.h>

#include <set>
#include <string>

namespace kestrum {

// The kernel's names, like "sda", of the whole disks that a block device lies on: the disk of a partition,
// all disks of a set of them, the disk that holds the file of a loop device. Empty when there is none.
std::set<std::string> disks_of_device(dev_t block_device);
// The same for a file system by the device number its files show: of FUSE, overlay and subvolumes what the
// mount table says of their origin.
std::set<std::string> disks_of_filesystem(dev_t device);
// Whether that disk can be unplugged.
bool is_removable_disk(const std::string& name);

}  // namespace kestrum
