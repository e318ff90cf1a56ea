// Opening below a folder without ever leaving it: no symbolic link is followed, no "..", no absolute path.
#pragma once

#include <string>

#include "base/file_handle.hpp"

namespace kestrum {

// `path`: components joined by '/', relative to the folder; "" is the folder itself. With `one_filesystem`,
// nothing is opened that lies on another file system than the folder (EXDEV). An empty handle with errno on
// error: ELOOP where a link is in the way. O_CLOEXEC and O_NOFOLLOW are added. openat2(2); where a sandbox
// does not offer that, one component after the other.
FileHandle open_beneath(int folder_fd, const std::string& path, int flags, unsigned mode = 0,
                        bool one_filesystem = false);

}  // namespace kestrum
