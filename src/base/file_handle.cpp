#include "base/file_handle.hpp"

#include <fcntl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstdlib>

#include "base/error.hpp"
#include "base/random.hpp"
#include "base/text.hpp"

namespace kestrum {

FileHandle::~FileHandle() {
  if (fd_ >= 0) ::close(fd_);
}

int FileHandle::close() {
  int fd = std::exchange(fd_, -1);
  return fd < 0 || ::close(fd) == 0 ? 0 : errno;
}

ssize_t read_full(int fd, void* buffer, std::size_t size, off_t offset) {
  std::size_t done = 0;
  while (done < size) {
    ssize_t n = pread(fd, static_cast<char*>(buffer) + done, size - done, offset + static_cast<off_t>(done));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) return -1;
    if (n == 0) break;
    done += static_cast<std::size_t>(n);
  }
  return static_cast<ssize_t>(done);
}

bool write_full(int fd, ByteView data) {
  while (!data.empty()) {
    ssize_t n = write(fd, data.data(), data.size());
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) return false;
    data = data.subspan(static_cast<std::size_t>(n));
  }
  return true;
}

namespace {

Bytes read_small(const FileHandle& file, const std::string& path, std::size_t limit);

}  // namespace

Bytes read_small_file(const std::string& path, std::size_t limit) {
  FileHandle file(open(path.c_str(), O_RDONLY | O_CLOEXEC));
  if (!file) throw system_error("read", path, errno);
  return read_small(file, path, limit);
}

Bytes read_believed_file(const std::string& path, std::size_t limit, unsigned closed) {
  bool root = geteuid() == 0;
  FileHandle file(open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | (root ? O_NOFOLLOW : 0)));
  if (!file && errno == ELOOP)
    throw Error(ErrorKind::usage, printable(path) + " is a link, and root follows none to what it believes",
                "put the file itself there");
  struct stat status {};
  if (!file || fstat(file.get(), &status) != 0) throw system_error("read", path, errno);
  if (!S_ISREG(status.st_mode))
    throw Error(ErrorKind::usage, printable(path) + " is not a file", "put the file itself there");
  if ((status.st_mode & closed) != 0)
    throw Error(ErrorKind::usage, printable(path) + " may be read by everybody on this machine",
                "close it with: chmod 600 " + printable(path));
  bool of_others = status.st_uid != 0 || (status.st_mode & S_IWOTH) != 0 ||
                   ((status.st_mode & S_IWGRP) != 0 && status.st_gid != 0);
  if (root && of_others)
    throw Error(ErrorKind::usage,
                printable(path) +
                    " belongs to somebody else than root, or others may write it: root does not "
                    "believe it",
                "look at it, then: chown root " + printable(path) + "; chmod go-w " + printable(path));
  return read_small(file, path, limit);
}

namespace {

Bytes read_small(const FileHandle& file, const std::string& path, std::size_t limit) {
  // In pieces: a pipe or a file below /proc does not tell its size.
  constexpr std::size_t piece = 64u << 10;
  Bytes content;
  while (true) {
    std::size_t had = content.size();
    content.resize(had + piece);
    ssize_t n = read(file.get(), content.data() + had, piece);
    if (n < 0 && errno == EINTR)
      n = 0;
    else if (n < 0)
      throw system_error("read", path, errno);
    else if (n == 0) {
      content.resize(had);
      return content;
    }
    content.resize(had + static_cast<std::size_t>(n));
    if (content.size() > limit) throw system_error("read", path, EFBIG);
  }
}

}  // namespace

void create_file(const std::string& path, ByteView content, unsigned mode) {
  FileHandle file(open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode));
  if (!file && errno == EEXIST)
    throw Error(ErrorKind::usage, printable(path) + " is there already and is not written over",
                "choose another name, or remove it if nothing needs it");
  if (!file) throw system_error("create", path, errno);
  bool good = write_full(file.get(), content) && fsync(file.get()) == 0;
  int code = errno;
  if (int closed = file.close(); good && closed != 0) {
    good = false;
    code = closed;
  }
  if (good) return;
  unlink(path.c_str());
  throw system_error("write", path, code);
}

void replace_file(const std::string& path, ByteView content, unsigned mode) {
  std::string folder = path.substr(0, path.rfind('/') + 1);
  std::string temporary = path + "." + to_hex(random_bytes(4)) + ".tmp";
  FileHandle file(open(temporary.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode));
  if (!file) throw system_error("create", temporary, errno);
  bool good = write_full(file.get(), content) && fsync(file.get()) == 0;
  int code = errno;
  int close_code = file.close();
  if (good && close_code != 0) {
    good = false;
    code = close_code;
  }
  if (good && rename(temporary.c_str(), path.c_str()) != 0) {
    good = false;
    code = errno;
  }
  if (!good) {
    unlink(temporary.c_str());
    throw system_error("write", path, code);
  }
  FileHandle handle(open(folder.empty() ? "." : folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (handle) fsync(handle.get());  // the content is safe already; a lost rename leaves the old file whole
}

FileHandle scratch_file(const std::string& folder) {
  FileHandle file(open(folder.c_str(), O_RDWR | O_TMPFILE | O_CLOEXEC, 0600));
  if (file) return file;
  std::string name = folder + "/kestrum-scratch-XXXXXX";
  file = FileHandle(mkstemp(name.data()));
  if (!file) throw system_error("create a scratch file in", folder, errno);
  unlink(name.c_str());
  return file;
}

std::size_t open_files_share(std::size_t most) {
  constexpr std::size_t least = 8;
  rlimit limit{};
  if (getrlimit(RLIMIT_NOFILE, &limit) != 0) return least;
  return std::clamp<std::size_t>(limit.rlim_cur / 4, least, most);
}

}  // namespace kestrum
