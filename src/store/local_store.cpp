#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "store/store.hpp"

namespace kestrum {
namespace {

class LocalReader final : public StoreReader {
 public:
  LocalReader(FileHandle file, std::string path) : file_(std::move(file)), path_(std::move(path)) {
    struct stat status {};
    if (fstat(file_.get(), &status) != 0) throw system_error("look at", path_, errno);
    if (!S_ISREG(status.st_mode)) throw damage(printable(path_) + " is not a file");
    size_ = static_cast<std::uint64_t>(status.st_size);
  }
  std::uint64_t size() const override { return size_; }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    ssize_t n = read_full(file_.get(), out.data(), out.size(), static_cast<off_t>(offset));
    if (n < 0) throw system_error("read", path_, errno);
    if (static_cast<std::size_t>(n) != out.size()) throw damage(printable(path_) + " ends too early");
  }
  void drop_cache() const override { posix_fadvise(file_.get(), 0, 0, POSIX_FADV_DONTNEED); }

 private:
  FileHandle file_;
  std::string path_;
  std::uint64_t size_ = 0;
};

class LocalWriter final : public StoreWriter {
 public:
  LocalWriter(FileHandle file, std::string path) : file_(std::move(file)), path_(std::move(path)) {}
  void append(ByteView data) override {
    if (!write_full(file_.get(), data)) throw system_error("write", path_, errno);
    // Start writing early, so that the flush at the end of a large volume does not stall for all of it at
    // once.
    written_ += data.size();
    if (written_ - started_ >= start_every_bytes) {
      sync_file_range(file_.get(), static_cast<off64_t>(started_), static_cast<off64_t>(written_ - started_),
                      SYNC_FILE_RANGE_WRITE);
      started_ = written_;
    }
  }
  void finish() override {
    if (fsync(file_.get()) != 0) throw system_error("flush", path_, errno);
    if (int code = file_.close(); code != 0) throw system_error("close", path_, code);
  }

 private:
  static constexpr std::uint64_t start_every_bytes = 32u << 20;
  FileHandle file_;
  std::string path_;
  std::uint64_t written_ = 0;
  std::uint64_t started_ = 0;
};

class LocalStore final : public Store {
 public:
  explicit LocalStore(std::string root) : root_(std::move(root)) {
    while (root_.size() > 1 && root_.back() == '/') root_.pop_back();
  }

  std::string describe(const std::string& path) const override { return printable(full(path)); }

  bool exists(const std::string& path) const override {
    struct stat status {};
    if (lstat(full(path).c_str(), &status) == 0) return true;
    if (errno == ENOENT || errno == ENOTDIR) return false;
    throw system_error("look at", full(path), errno);
  }

  std::vector<StoreEntry> list(const std::string& folder) const override {
    DIR* dir = opendir(full(folder).c_str());
    if (dir == nullptr) {
      if (errno == ENOENT) return {};
      throw system_error("list", full(folder), errno);
    }
    std::unique_ptr<DIR, int (*)(DIR*)> closer(dir, closedir);
    std::vector<StoreEntry> entries;
    errno = 0;
    while (dirent* item = readdir(dir)) {
      std::string name = item->d_name;
      if (name == "." || name == "..") continue;
      struct stat status {};
      if (fstatat(dirfd(dir), item->d_name, &status, AT_SYMLINK_NOFOLLOW) != 0) {
        if (errno == ENOENT) continue;  // removed meanwhile
        throw system_error("look at", full(folder) + "/" + name, errno);
      }
      entries.push_back({name, S_ISDIR(status.st_mode), static_cast<std::uint64_t>(status.st_size)});
      errno = 0;
    }
    if (errno != 0) throw system_error("list", full(folder), errno);
    std::sort(entries.begin(), entries.end(), [](const auto& a, const auto& b) { return a.name < b.name; });
    return entries;
  }

  std::unique_ptr<StoreReader> open(const std::string& path) const override {
    FileHandle file(::open(full(path).c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK));
    if (!file) throw system_error("open", full(path), errno);
    return std::make_unique<LocalReader>(std::move(file), full(path));
  }

  std::unique_ptr<StoreWriter> create(const std::string& path) override {
    return std::make_unique<LocalWriter>(create_file(path), full(path));
  }

  void reserve(const std::string& path, std::uint64_t size) override {
    FileHandle file = create_file(path);
    int code = posix_fallocate(file.get(), 0, static_cast<off_t>(size));
    if (code != 0 && code != EOPNOTSUPP && code != EINVAL)
      throw system_error("reserve space for", full(path), code);
  }

  bool create_exclusive(const std::string& path, ByteView content) override {
    FileHandle file(::open(full(path).c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0644));
    if (!file && errno == EEXIST) return false;
    if (!file) throw system_error("create", full(path), errno);
    if (!write_full(file.get(), content) || fsync(file.get()) != 0) {
      int code = errno;
      unlink(full(path).c_str());
      throw system_error("write", full(path), code);
    }
    return true;
  }

  void rename(const std::string& from, const std::string& to) override {
    if (::rename(full(from).c_str(), full(to).c_str()) != 0) throw system_error("rename", full(from), errno);
  }

  void remove(const std::string& path) override {
    if (unlink(full(path).c_str()) != 0) throw system_error("remove", full(path), errno);
  }

  void make_folder(const std::string& path) override {
    for (std::size_t at = 0; at != std::string::npos;) {
      at = path.find('/', at + 1);
      std::string part = full(path.substr(0, at));
      if (mkdir(part.c_str(), 0755) != 0 && errno != EEXIST)
        throw system_error("create the folder", part, errno);
    }
  }

  void make_private(const std::string& folder) override { chmod(full(folder).c_str(), 0700); }

  void remove_folder(const std::string& path) override {
    if (rmdir(full(path).c_str()) != 0) throw system_error("remove the folder", full(path), errno);
  }

  bool flush_folder(const std::string& path) override {
    FileHandle folder(::open(full(path).c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (!folder) throw system_error("open", full(path), errno);
    if (fsync(folder.get()) == 0) return true;
    if (errno == EINVAL || errno == ENOTSUP || errno == ENOSYS) return false;
    throw system_error("flush", full(path), errno);
  }

  StoreSpace space() const override {
    struct statvfs status {};
    if (statvfs(root_.c_str(), &status) != 0) throw system_error("ask the free space of", root_, errno);
    return {status.f_blocks * status.f_frsize, status.f_bavail * status.f_frsize};
  }

 private:
  std::string full(const std::string& path) const { return path.empty() ? root_ : root_ + "/" + path; }

  FileHandle create_file(const std::string& path) {
    FileHandle file(::open(full(path).c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0644));
    if (!file) throw system_error("create", full(path), errno);
    return file;
  }

  std::string root_;
};

}  // namespace

std::unique_ptr<Store> open_local_store(const std::string& root) {
  return std::make_unique<LocalStore>(root);
}

}  // namespace kestrum
