// Block devices given as sources: read as one image file.
#pragma once

#include <sys/stat.h>

#include <cstdint>
#include <optional>
#include <string>

#include "base/tree_path.hpp"

namespace kestrum {

// The path of a block device as a source: links in its folders are resolved, the last one is not, because a
// name like /dev/disk/by-label/tern stays with the device while /dev/sdb1 may be another one tomorrow.
// Nothing when `path` leads to no block device.
std::optional<TreePath> device_source(const std::string& path);

// Size in bytes of the block device open as `fd`. Nothing with errno on error: ENOMEDIUM when there is
// nothing in it.
std::optional<std::uint64_t> device_size(int fd);

}  // namespace kestrum
