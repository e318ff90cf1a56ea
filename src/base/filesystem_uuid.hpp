// The UUID of a file system, asked of the kernel.
#pragma once

#include <string>

namespace kestrum {

// Of the file system that an open folder lies on, lower case with dashes; empty when there is none, or the
// kernel or the file system does not tell.
std::string filesystem_uuid(int folder_fd);

}  // namespace kestrum
