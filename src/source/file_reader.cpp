#include "source/file_reader.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "source/block_device.hpp"

namespace kestrum {

std::optional<FileReader> FileReader::open(int folder_fd, const std::string& name) {
  constexpr int flags = O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC;
  FileHandle file(openat(folder_fd, name.c_str(), flags | O_NOATIME));
  if (!file && errno == EPERM) file = FileHandle(openat(folder_fd, name.c_str(), flags));
  if (!file) return std::nullopt;
  struct stat status {};
  if (fstat(file.get(), &status) != 0) return std::nullopt;
  if (!S_ISREG(status.st_mode)) {
    errno = ESTALE;
    return std::nullopt;
  }
  return FileReader(std::move(file), status);
}

std::optional<FileReader> FileReader::open_device(int folder_fd, const std::string& name) {
  FileHandle file(openat(folder_fd, name.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
  struct stat status {};
  if (!file || fstat(file.get(), &status) != 0) return std::nullopt;
  if (!S_ISBLK(status.st_mode)) {
    errno = ESTALE;
    return std::nullopt;
  }
  std::optional<std::uint64_t> size = device_size(file.get());
  if (!size) return std::nullopt;
  status.st_size = static_cast<off_t>(*size);
  return FileReader(std::move(file), status);
}

int FileReader::read_data(const Sink& sink, std::uint64_t until) {
  static constexpr std::size_t block = 1u << 20;
  static thread_local Bytes buffer(block);
  while (position_ < until) {
    std::size_t wanted = static_cast<std::size_t>(std::min<std::uint64_t>(block, until - position_));
    ssize_t n = read_full(file_.get(), buffer.data(), wanted, static_cast<off_t>(position_));
    if (n < 0) return errno;
    if (n == 0) return 0;  // shrank
    ByteView read = ByteView(buffer).first(static_cast<std::size_t>(n));
    if (is_device() && std::all_of(read.begin(), read.end(), [](auto byte) { return byte == 0; })) {
      sink.data_end();
      sink.hole(read.size());
    } else {
      sink.data(read);
    }
    position_ += static_cast<std::uint64_t>(n);
    if (static_cast<std::size_t>(n) < wanted) return 0;
  }
  return 0;
}

int FileReader::read_all(const Sink& sink) {
  position_ = 0;
  auto size = static_cast<std::uint64_t>(status_.st_size);
  bool maybe_holes = !is_device() && static_cast<std::uint64_t>(status_.st_blocks) * 512 < size;
  while (position_ < size) {
    std::uint64_t data_begin = position_;
    std::uint64_t data_end = size;
    if (maybe_holes) {
      off_t found = lseek(file_.get(), static_cast<off_t>(position_), SEEK_DATA);
      if (found < 0 && errno == ENXIO) {
        data_begin = size;  // nothing but a hole until the end
      } else if (found >= 0) {
        data_begin = std::min(static_cast<std::uint64_t>(found), size);
        off_t end = lseek(file_.get(), found, SEEK_HOLE);
        if (end > found) data_end = std::min(static_cast<std::uint64_t>(end), size);
      }
    }
    if (data_begin > position_) {
      sink.hole(data_begin - position_);
      position_ = data_begin;
      continue;
    }
    int code = read_data(sink, data_end);
    sink.data_end();
    if (code != 0) return code;
    if (position_ < data_end) return 0;  // shrank
  }
  return 0;
}

bool FileReader::changed() const {
  if (is_device()) return position_ != static_cast<std::uint64_t>(status_.st_size);
  struct stat now {};
  if (fstat(file_.get(), &now) != 0) return true;
  auto same = [](const timespec& a, const timespec& b) {
    return a.tv_sec == b.tv_sec && a.tv_nsec == b.tv_nsec;
  };
  return now.st_size != status_.st_size || !same(now.st_mtim, status_.st_mtim) ||
         !same(now.st_ctim, status_.st_ctim) || position_ != static_cast<std::uint64_t>(status_.st_size);
}

}  // namespace kestrum
