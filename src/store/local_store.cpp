#include <dirent.h>
#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdio>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/flush_point.hpp"
#include "base/open_beneath.hpp"
#include "base/random.hpp"
#include "base/text.hpp"
#include "store/open_files.hpp"
#include "store/store.hpp"
#include "store/store_error.hpp"

namespace kestrum {
namespace {

// What readers share with their store, and keep when it is gone.
struct StoreRoot {
  FileHandle folder;
  OpenFiles open;
};

class LocalReader final : public StoreReader {
 public:
  // `path`: below the root; `shown`: for messages.
  LocalReader(std::shared_ptr<StoreRoot> root, FileHandle file, std::string path, std::string shown)
      : root_(std::move(root)), path_(std::move(path)), shown_(std::move(shown)) {
    struct stat status {};
    if (fstat(file.get(), &status) != 0) throw store_error("look at", shown_, errno);
    if (!S_ISREG(status.st_mode)) throw damage(printable(shown_) + " is not a file");
    device_ = status.st_dev;
    inode_ = status.st_ino;
    size_ = static_cast<std::uint64_t>(status.st_size);
    root_->open.put(this, std::move(file));
  }
  ~LocalReader() override { root_->open.forget(this); }
  LocalReader(const LocalReader&) = delete;
  LocalReader& operator=(const LocalReader&) = delete;

  std::uint64_t size() const override { return size_; }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    std::shared_ptr<const FileHandle> file = handle();
    ssize_t n = read_full(file->get(), out.data(), out.size(), static_cast<off_t>(offset));
    if (n < 0) throw store_error("read", shown_, errno);
    if (static_cast<std::size_t>(n) != out.size()) throw damage(printable(shown_) + " ends too early");
  }
  void drop_cache() const override { posix_fadvise(handle()->get(), 0, 0, POSIX_FADV_DONTNEED); }

 private:
  std::shared_ptr<const FileHandle> handle() const {
    return root_->open.get(this, [this] {
      FileHandle file = open_beneath(root_->folder.get(), path_, O_RDONLY | O_NOFOLLOW | O_NONBLOCK, 0, true);
      struct stat status {};
      if (!file || fstat(file.get(), &status) != 0) throw store_error("open again", shown_, errno);
      // Somebody has put another file there: what was begun cannot go on in it.
      if (status.st_dev != device_ || status.st_ino != inode_)
        throw store_error("open again", shown_, ENOENT);
      return file;
    });
  }

  std::shared_ptr<StoreRoot> root_;
  std::string path_, shown_;
  dev_t device_ = 0;
  ino_t inode_ = 0;
  std::uint64_t size_ = 0;
};

class LocalWriter final : public StoreWriter {
 public:
  LocalWriter(FileHandle file, std::string path) : file_(std::move(file)), path_(std::move(path)) {}
  void append(ByteView data) override {
    if (!write_full(file_.get(), data)) throw store_error("write", path_, errno);
    // Start writing early, so that the flush at the end of a large volume does not stall for all of it at
    // once.
    written_ += data.size();
    if (written_ - started_ >= start_every_bytes) {
      sync_file_range(file_.get(), static_cast<off64_t>(started_), static_cast<off64_t>(written_ - started_),
                      SYNC_FILE_RANGE_WRITE);
      started_ = written_;
    }
  }
  void flush() override {
    if (fdatasync(file_.get()) != 0) throw store_error("flush", path_, errno);
  }
  void finish() override {
    if (flush_point("1: content of a file") && fsync(file_.get()) != 0)
      throw store_error("flush", path_, errno);
    if (int code = file_.close(); code != 0) throw store_error("close", path_, code);
  }

 private:
  static constexpr std::uint64_t start_every_bytes = 32u << 20;
  FileHandle file_;
  std::string path_;
  std::uint64_t written_ = 0;
  std::uint64_t started_ = 0;
};

class LocalHold final : public StoreHold {
 public:
  explicit LocalHold(FileHandle folder) : folder_(std::move(folder)) {}
  bool keeps_out() const override { return true; }

 private:
  FileHandle folder_;
};

class LocalStore final : public Store {
 public:
  explicit LocalStore(std::string root) : root_(std::move(root)) {
    while (root_.size() > 1 && root_.back() == '/') root_.pop_back();
    FileHandle& handle = shared_->folder;
    handle = FileHandle(::open(root_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    // A folder that may be gone through but not listed.
    if (!handle && errno == EACCES)
      handle = FileHandle(::open(root_.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
    struct stat status {};
    if (!handle || fstat(handle.get(), &status) != 0) {
      int code = errno;
      if (code == ENOENT || code == ENOTDIR)
        throw Error(ErrorKind::no_destination, "the folder " + printable(root_) + " is not there",
                    "connect the drive, or check the path")
            .with_code(code);
      throw store_error("open", root_, code);
    }
    device_ = status.st_dev;
    inode_ = status.st_ino;
  }

  std::string describe(const std::string& path) const override { return printable(full(path)); }

  bool still_there() const override {
    struct stat status {};
    return stat(root_.c_str(), &status) == 0 && status.st_dev == device_ && status.st_ino == inode_;
  }

  bool exists(const std::string& path) const override {
    if (beneath(path, O_PATH | O_NOFOLLOW)) return true;
    if (is_absent(errno)) return false;
    throw store_error("look at", full(path), errno);
  }

  std::vector<StoreEntry> list(const std::string& folder) const override {
    FileHandle handle = beneath(folder, O_RDONLY | O_DIRECTORY);
    if (!handle && is_absent(errno)) return {};
    if (!handle) throw store_error("list", full(folder), errno);
    std::vector<StoreEntry> entries;
    entries.reserve(8);
    alignas(dirent64) std::array<char, 16384> buffer;
    ssize_t size = 0;
    while ((size = getdents64(handle.get(), buffer.data(), buffer.size())) > 0) {
      for (ssize_t at = 0; at < size;) {
        const auto* item = reinterpret_cast<const dirent64*>(buffer.data() + at);
        at += item->d_reclen;
        std::string_view name = item->d_name;
        if (name == "." || name == "..") continue;
        struct stat status {};
        if (fstatat(handle.get(), item->d_name, &status, AT_SYMLINK_NOFOLLOW) == 0) {
          entries.push_back(
              {std::string(name), S_ISDIR(status.st_mode), static_cast<std::uint64_t>(status.st_size)});
        } else if (errno != ENOENT) {  // else removed meanwhile
          throw store_error("look at", full(folder) + "/" + std::string(name), errno);
        }
      }
    }
    if (size < 0) throw store_error("list", full(folder), errno);
    std::sort(entries.begin(), entries.end(), [](const auto& a, const auto& b) { return a.name < b.name; });
    return entries;
  }

  std::unique_ptr<StoreReader> try_open(const std::string& path) const override {
    FileHandle file = beneath(path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK);
    if (!file && is_absent(errno)) return nullptr;
    if (!file) throw store_error("open", full(path), errno);
    return std::make_unique<LocalReader>(shared_, std::move(file), path, full(path));
  }

  std::unique_ptr<StoreWriter> create(const std::string& path) override {
    return std::make_unique<LocalWriter>(create_file(path), full(path));
  }

  std::unique_ptr<StoreWriter> reopen(const std::string& path) override {
    FileHandle file = beneath(path, O_WRONLY | O_APPEND | O_NOFOLLOW);
    if (!file) throw store_error("open", full(path), errno);
    return std::make_unique<LocalWriter>(std::move(file), full(path));
  }

  void reserve(const std::string& path, std::uint64_t size) override {
    FileHandle file = create_file(path);
    if (fallocate(file.get(), 0, 0, static_cast<off_t>(size)) == 0) return;
    if (errno != EOPNOTSUPP && errno != EINVAL && errno != ENOSYS)
      throw store_error("reserve space for", full(path), errno);
  }

  bool create_exclusive(const std::string& path, ByteView content) override {
    // Written aside, then given its name in one step: by a link, else by a rename that replaces nothing.
    for (int attempt = 0; attempt < 64; ++attempt) {
      int code = place_exclusive(path, content);
      if (code == 0) return true;
      if (code == EEXIST) return false;
      if (code == ENOENT) continue;  // whoever holds the name has cleared what lies beside it
      if (code != EOPNOTSUPP) throw store_error("create", full(path), code);
      break;
    }
    // Neither is to be had: the name at least is taken by one only.
    FileHandle file = beneath(path, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW, 0644);
    if (!file && errno == EEXIST) return false;
    if (!file) throw store_error("create", full(path), errno);
    if (!write_full(file.get(), content) || fsync(file.get()) != 0) {
      int code = errno;
      if (FileHandle parent = beneath(folder_of(path), O_PATH | O_DIRECTORY))
        unlinkat(parent.get(), name_of(path).c_str(), 0);  // a file without content would say nothing
      throw store_error("write", full(path), code);
    }
    return true;
  }

  void shorten(const std::string& path, std::uint64_t size) override {
    shared_->open.close_all();
    FileHandle file = beneath(path, O_WRONLY | O_NOFOLLOW);
    struct stat status {};
    if (!file || fstat(file.get(), &status) != 0) throw store_error("open", full(path), errno);
    const bool longer = static_cast<std::uint64_t>(status.st_size) > size;
    if (longer && ftruncate(file.get(), static_cast<off_t>(size)) != 0)
      throw store_error("shorten", full(path), errno);
    if (flush_point("9: what a run goes on with") && fsync(file.get()) != 0)
      throw store_error("flush", full(path), errno);
  }

  void rename(const std::string& from, const std::string& to) override {
    shared_->open.close_all();
    FileHandle source = folder(from), target = folder(to);
    if (renameat(source.get(), name_of(from).c_str(), target.get(), name_of(to).c_str()) != 0)
      throw store_error("rename", full(from), errno);
  }

  // Some file systems keep a file that is open under another name, in the folder that is to be removed; and
  // everywhere its room comes back only when it is closed.
  void remove(const std::string& path) override {
    shared_->open.close_all();
    FileHandle parent = beneath(folder_of(path), O_PATH | O_DIRECTORY);
    if (parent && unlinkat(parent.get(), name_of(path).c_str(), 0) == 0) return;
    if (!is_absent(errno)) throw store_error("remove", full(path), errno);
  }

  bool make_folder(const std::string& path) override {
    FileHandle parent = folder(path);
    if (mkdirat(parent.get(), name_of(path).c_str(), 0755) == 0) return true;
    if (errno != EEXIST) throw store_error("create the folder", full(path), errno);
    return false;
  }

  void make_private(const std::string& path) override {
    FileHandle handle = beneath(path, O_RDONLY | O_DIRECTORY);
    if (handle) fchmod(handle.get(), 0700);
  }

  void remove_folder(const std::string& path) override {
    FileHandle parent = folder(path);
    if (unlinkat(parent.get(), name_of(path).c_str(), AT_REMOVEDIR) != 0)
      throw store_error("remove the folder", full(path), errno);
  }

  bool flush_folder(const std::string& path) override {
    FileHandle handle = beneath(path, O_RDONLY | O_DIRECTORY);
    if (!handle) throw store_error("open", full(path), errno);
    if (fsync(handle.get()) == 0) return true;
    if (errno == EINVAL || errno == ENOTSUP || errno == ENOSYS) return false;
    throw store_error("flush", full(path), errno);
  }

  StoreSpace space() const override {
    struct statvfs status {};
    if (fstatvfs(shared_->folder.get(), &status) != 0)
      throw store_error("ask the free space of", root_, errno);
    return {status.f_blocks * status.f_frsize, status.f_bavail * status.f_frsize};
  }

  void settle() override {
    shared_->open.close_all();
    syncfs(shared_->folder.get());
  }

  std::unique_ptr<StoreHold> hold(const std::string& path) override {
    FileHandle handle = beneath(path, O_RDONLY | O_DIRECTORY);
    if (!handle) throw store_error("open", full(path), errno);
    if (flock(handle.get(), LOCK_EX | LOCK_NB) == 0) return std::make_unique<LocalHold>(std::move(handle));
    if (errno == EWOULDBLOCK) return nullptr;
    return Store::hold(path);  // the file system has no such locks
  }

 private:
  std::string full(const std::string& path) const {
    if (path.empty()) return root_;
    std::string text;
    text.reserve(root_.size() + 1 + path.size());
    return text.append(root_).append(1, '/').append(path);
  }
  static std::string name_of(const std::string& path) { return path.substr(path.rfind('/') + 1); }
  static bool is_absent(int code) { return code == ENOENT || code == ENOTDIR; }

  FileHandle beneath(const std::string& path, int flags, unsigned mode = 0) const {
    return open_beneath(shared_->folder.get(), path, flags, mode, true);
  }

  // The folder that holds `path`.
  FileHandle folder(const std::string& path) const {
    FileHandle handle = beneath(folder_of(path), O_PATH | O_DIRECTORY);
    if (!handle) throw store_error("open", full(folder_of(path)), errno);
    return handle;
  }

  FileHandle create_file(const std::string& path) {
    FileHandle file = beneath(path, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW, 0644);
    if (!file) throw store_error("create", full(path), errno);
    return file;
  }

  // 0, or an errno: EEXIST when the name is taken, EOPNOTSUPP when the file system offers no way.
  int place_exclusive(const std::string& path, ByteView content) {
    std::string temporary = path + "." + to_hex(random_bytes(8)) + ".tmp";
    FileHandle parent = folder(path);
    std::string name = name_of(path), aside = name_of(temporary);
    write_new(temporary, content);
    int code = linkat(parent.get(), aside.c_str(), parent.get(), name.c_str(), 0) == 0 ? 0 : errno;
    bool no_links = code == EPERM || code == EOPNOTSUPP || code == ENOSYS || code == EMLINK || code == EINVAL;
    if (no_links) {
      code = renameat2(parent.get(), aside.c_str(), parent.get(), name.c_str(), RENAME_NOREPLACE) == 0
                 ? 0
                 : errno;
      if (code == 0) return 0;
      if (code == EINVAL || code == ENOSYS) code = EOPNOTSUPP;
    }
    unlinkat(parent.get(), aside.c_str(), 0);
    return code;
  }

  void write_new(const std::string& path, ByteView content) {
    FileHandle file = create_file(path);
    if (write_full(file.get(), content) && fsync(file.get()) == 0) return;
    int code = errno;
    try {
      remove(path);
    } catch (const Error&) {
      // The reason why it could not be written says more.
    }
    throw store_error("write", full(path), code);
  }

  std::string root_;
  std::shared_ptr<StoreRoot> shared_ = std::make_shared<StoreRoot>();
  dev_t device_ = 0;
  ino_t inode_ = 0;
};

}  // namespace

std::unique_ptr<Store> open_local_store(const std::string& root) {
  return std::make_unique<LocalStore>(root);
}

}  // namespace kestrum
