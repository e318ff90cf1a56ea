// An owned file descriptor, and whole reads and writes on it.
#pragma once

#include <sys/types.h>

#include <string>
#include <utility>

#include "base/bytes.hpp"

namespace kestrum {

class FileHandle {
 public:
  FileHandle() = default;
  explicit FileHandle(int fd) : fd_(fd) {}
  FileHandle(FileHandle&& other) noexcept : fd_(std::exchange(other.fd_, -1)) {}
  FileHandle& operator=(FileHandle&& other) noexcept {
    std::swap(fd_, other.fd_);
    return *this;
  }
  ~FileHandle();
  int get() const { return fd_; }
  explicit operator bool() const { return fd_ >= 0; }
  // Closes and tells of an error: 0, or errno. The destructor closes too, silently.
  int close();
  int release() { return std::exchange(fd_, -1); }

 private:
  int fd_ = -1;
};

// Reads up to `size` bytes at `offset`, fewer only at the end of the file; -1 with errno on error.
ssize_t read_full(int fd, void* buffer, std::size_t size, off_t offset);
// False with errno on error.
bool write_full(int fd, ByteView data);
// The whole of a small file; throws Error (failed) when it cannot be read or is larger than `limit` bytes.
Bytes read_small_file(const std::string& path, std::size_t limit);
// The same of one whose content is acted upon, a job or a secret: a file and nothing else. As root only one
// that is root's and that nobody else may write, reached by no link at its end. `closed`: mode bits that it
// may not have. Throws Error: usage when it is not so.
Bytes read_believed_file(const std::string& path, std::size_t limit, unsigned closed = 0);
// A new file, flushed; never over one that is there (Error of kind usage): it may be the only copy of
// something.
void create_file(const std::string& path, ByteView content, unsigned mode);
// Writes beside `path`, flushes, renames over it and flushes the folder: whole or not at all.
void replace_file(const std::string& path, ByteView content, unsigned mode);
// An unnamed scratch file in `folder` that vanishes with its handle.
FileHandle scratch_file(const std::string& folder);

// How many files one part of the program may keep open: a quarter of what this process may have, at least 8,
// at most `most`.
std::size_t open_files_share(std::size_t most);

}  // namespace kestrum
