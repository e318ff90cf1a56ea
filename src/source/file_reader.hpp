// Reads one regular file or block device as stretches of data and holes, and notices when it changes
// meanwhile.
#pragma once

#include <sys/stat.h>

#include <functional>
#include <optional>
#include <string>

#include "base/file_handle.hpp"

namespace kestrum {

class FileReader {
 public:
  // Opens without following a link and without touching the access time where that is allowed. Nothing with
  // errno when it cannot be opened or is no regular file any more (ESTALE).
  static std::optional<FileReader> open(int folder_fd, const std::string& name);
  // The same for a block device or a link to one. Its status has the device's size; stretches of zeros are
  // given out as holes; changes while it is read are not noticed.
  static std::optional<FileReader> open_device(int folder_fd, const std::string& name);

  // As it was before the first byte was read.
  const struct stat& status() const { return status_; }
  int handle() const { return file_.get(); }

  // Calls `data(buffer)` with consecutive bytes and `hole(length)` for holes, `data_end()` where a stretch of
  // data ends before a hole or the end. Returns 0, or the errno of a read that failed: what came before was
  // given out.
  struct Sink {
    std::function<void(ByteView)> data;
    std::function<void()> data_end;
    std::function<void(std::uint64_t)> hole;
  };
  int read_all(const Sink& sink);
  // Bytes that came out, holes included.
  std::uint64_t position() const { return position_; }
  // Size or times differ from what they were at the start.
  bool changed() const;

 private:
  FileReader(FileHandle file, const struct stat& status) : file_(std::move(file)), status_(status) {}
  int read_data(const Sink& sink, std::uint64_t until);
  bool is_device() const { return S_ISBLK(status_.st_mode); }

  FileHandle file_;
  struct stat status_;
  std::uint64_t position_ = 0;
};

}  // namespace kestrum
