// A file system with FAT's rules over an ordinary folder: fat_rules BACKING MOUNTPOINT [largest file in
// bytes]. No owners, modes, links, special files or attributes; times in steps of two seconds from 1980 to
// 2107; files below 4 GiB; names are UTF-8 without "*/:<>?\| and control characters, end in no dot or blank,
// and case does not tell two apart. Set-mode calls are taken without a word and forgotten, as the kernel's
// own FAT does. The listing of a folder that holds ".breaks-off" ends half way, with an error
// of the device; so does looking at what has a "NAME.fails" beside it.
#define FUSE_USE_VERSION 35
#include <dirent.h>
#include <fcntl.h>
#include <fuse.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

namespace {

std::string backing;
off_t largest = (off_t{1} << 32) - 1;

bool is_utf8(std::string_view text) {
  for (std::size_t i = 0; i < text.size();) {
    auto byte = static_cast<unsigned char>(text[i]);
    std::size_t more = byte < 0x80                   ? 0
                       : byte >= 0xc2 && byte < 0xe0 ? 1
                       : byte >= 0xe0 && byte < 0xf0 ? 2
                       : byte >= 0xf0 && byte < 0xf5 ? 3
                                                     : 9;
    if (more == 9 || i + more >= text.size()) return false;
    for (std::size_t k = 1; k <= more; ++k)
      if ((static_cast<unsigned char>(text[i + k]) & 0xc0) != 0x80) return false;
    i += more + 1;
  }
  return true;
}

bool allowed(std::string_view name) {
  bool plain = std::none_of(name.begin(), name.end(), [](char c) {
    return (static_cast<unsigned char>(c) < 0x20) ||
           std::string_view("\"*:<>?\\|").find(c) != std::string_view::npos;
  });
  return plain && is_utf8(name);
}

std::string lower(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
  return text;
}

// One component as it is stored: without dots and blanks at its end, and as the folder spells it already.
// False when it cannot be a name here.
bool stored_name(const std::string& folder, std::string& name) {
  if (!allowed(name)) return false;
  while (!name.empty() && (name.back() == '.' || name.back() == ' ')) name.pop_back();
  if (name.empty()) return false;
  struct stat status {};
  if (lstat((folder + "/" + name).c_str(), &status) == 0) return true;
  std::unique_ptr<DIR, int (*)(DIR*)> dir(opendir(folder.c_str()), closedir);
  std::string wanted = lower(name);
  while (dirent* item = dir ? readdir(dir.get()) : nullptr) {
    if (lower(item->d_name) == wanted) name = item->d_name;
  }
  return true;
}

// 0 or a negative errno.
int real_path(const char* path, std::string& out) {
  out = backing;
  std::string_view rest = path;
  while (!rest.empty()) {
    rest.remove_prefix(1);
    std::size_t end = std::min(rest.find('/'), rest.size());
    std::string name(rest.substr(0, end));
    rest.remove_prefix(end);
    if (name.empty()) continue;
    if (!stored_name(out, name)) return -EINVAL;
    out += "/" + name;
  }
  return 0;
}

int result(int code) {
  return code < 0 ? -errno : 0;
}

void dress(struct stat& status) {
  bool folder = S_ISDIR(status.st_mode);
  status.st_mode = (folder ? S_IFDIR : S_IFREG) | 0755;
  status.st_uid = getuid();
  status.st_gid = getgid();
  status.st_nlink = 1;
}

int fat_getattr(const char* path, struct stat* status, fuse_file_info*) {
  std::string real;
  // Looking for a name that cannot be here finds nothing; only creating it is refused.
  if (real_path(path, real) != 0 || lstat(real.c_str(), status) != 0) return -ENOENT;
  struct stat mark {};
  if (lstat((real + ".fails").c_str(), &mark) == 0) return -EIO;
  dress(*status);
  return 0;
}

int fat_readdir(const char* path, void* buffer, fuse_fill_dir_t fill, off_t from, fuse_file_info*,
                fuse_readdir_flags) {
  std::string real;
  if (int code = real_path(path, real); code != 0) return code;
  std::unique_ptr<DIR, int (*)(DIR*)> dir(opendir(real.c_str()), closedir);
  if (!dir) return -errno;
  std::vector<std::string> names;
  while (dirent* item = readdir(dir.get())) names.emplace_back(item->d_name);
  std::sort(names.begin(), names.end());
  bool breaks_off = std::find(names.begin(), names.end(), ".breaks-off") != names.end();
  if (breaks_off) {  // every other name is told: what is not lies between them
    std::vector<std::string> told;
    for (std::size_t i = 0; i < names.size(); i += 2) told.push_back(names[i]);
    names = told;
  }
  std::size_t end = names.size();
  auto at = static_cast<std::size_t>(from);
  if (breaks_off && at >= end) return -EIO;
  while (at < end && fill(buffer, names[at].c_str(), nullptr, static_cast<off_t>(at + 1), {}) == 0) ++at;
  return 0;
}

int fat_mkdir(const char* path, mode_t) {
  std::string real;
  if (int code = real_path(path, real); code != 0) return code;
  return result(mkdir(real.c_str(), 0755));
}

int fat_unlink(const char* path) {
  std::string real;
  if (int code = real_path(path, real); code != 0) return code;
  return result(unlink(real.c_str()));
}

int fat_rmdir(const char* path) {
  std::string real;
  if (int code = real_path(path, real); code != 0) return code;
  return result(rmdir(real.c_str()));
}

int fat_rename(const char* from, const char* to, unsigned flags) {
  std::string real_from;
  std::string real_to;
  if (int code = real_path(from, real_from); code != 0) return code;
  if (int code = real_path(to, real_to); code != 0) return code;
  return result(renameat2(AT_FDCWD, real_from.c_str(), AT_FDCWD, real_to.c_str(), flags));
}

int fat_create(const char* path, mode_t, fuse_file_info* info) {
  std::string real;
  if (int code = real_path(path, real); code != 0) return code;
  int fd = open(real.c_str(), info->flags & ~O_NOFOLLOW, 0644);
  info->fh = static_cast<std::uint64_t>(fd);
  return result(fd);
}

int fat_open(const char* path, fuse_file_info* info) {
  std::string real;
  if (int code = real_path(path, real); code != 0) return code;
  int fd = open(real.c_str(), info->flags & ~O_NOFOLLOW);
  info->fh = static_cast<std::uint64_t>(fd);
  return result(fd);
}

int fat_read(const char*, char* buffer, std::size_t size, off_t at, fuse_file_info* info) {
  ssize_t n = pread(static_cast<int>(info->fh), buffer, size, at);
  return n < 0 ? -errno : static_cast<int>(n);
}

int fat_write(const char*, const char* buffer, std::size_t size, off_t at, fuse_file_info* info) {
  if (at >= largest) return -EFBIG;
  ssize_t n = pwrite(static_cast<int>(info->fh), buffer,
                     std::min<std::size_t>(size, static_cast<std::size_t>(largest - at)), at);
  return n < 0 ? -errno : static_cast<int>(n);
}

int fat_truncate(const char* path, off_t size, fuse_file_info*) {
  if (size > largest) return -EFBIG;
  std::string real;
  if (int code = real_path(path, real); code != 0) return code;
  return result(truncate(real.c_str(), size));
}

int fat_release(const char*, fuse_file_info* info) {
  return result(close(static_cast<int>(info->fh)));
}

int fat_fsync(const char*, int, fuse_file_info* info) {
  return result(fsync(static_cast<int>(info->fh)));
}

int fat_utimens(const char* path, const timespec times[2], fuse_file_info*) {
  std::string real;
  if (int code = real_path(path, real); code != 0) return code;
  timespec rounded[2] = {times[0], times[1]};
  if (times[1].tv_nsec != UTIME_NOW && times[1].tv_nsec != UTIME_OMIT) {
    constexpr time_t first = 315532800;  // 1980
    constexpr time_t last = 4354819198;  // 2107
    rounded[1].tv_sec = std::clamp(times[1].tv_sec, first, last) / 2 * 2;
    rounded[1].tv_nsec = 0;
  }
  return result(utimensat(AT_FDCWD, real.c_str(), rounded, 0));
}

int fat_chmod(const char*, mode_t, fuse_file_info*) {
  return 0;
}
int fat_chown(const char*, uid_t owner, gid_t group, fuse_file_info*) {
  bool same = (owner == getuid() || owner == static_cast<uid_t>(-1)) &&
              (group == getgid() || group == static_cast<gid_t>(-1));
  return same ? 0 : -EPERM;
}
int fat_symlink(const char*, const char*) {
  return -EPERM;
}
int fat_link(const char*, const char*) {
  return -EPERM;
}
int fat_mknod(const char*, mode_t, dev_t) {
  return -EPERM;
}
int fat_setxattr(const char*, const char*, const char*, std::size_t, int) {
  return -EOPNOTSUPP;
}
int fat_statfs(const char*, struct statvfs* space) {
  return result(statvfs(backing.c_str(), space));
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 3) {
    std::fprintf(stderr, "fat_rules BACKING MOUNTPOINT [largest file in bytes]\n");
    return 2;
  }
  backing = argv[1];
  if (argc > 3) largest = std::atoll(argv[3]);
  fuse_operations operations{};
  operations.getattr = fat_getattr;
  operations.readdir = fat_readdir;
  operations.mkdir = fat_mkdir;
  operations.unlink = fat_unlink;
  operations.rmdir = fat_rmdir;
  operations.rename = fat_rename;
  operations.create = fat_create;
  operations.open = fat_open;
  operations.read = fat_read;
  operations.write = fat_write;
  operations.truncate = fat_truncate;
  operations.release = fat_release;
  operations.fsync = fat_fsync;
  operations.utimens = fat_utimens;
  operations.chmod = fat_chmod;
  operations.chown = fat_chown;
  operations.symlink = fat_symlink;
  operations.link = fat_link;
  operations.mknod = fat_mknod;
  operations.setxattr = fat_setxattr;
  operations.statfs = fat_statfs;
  std::string options = "attr_timeout=0,entry_timeout=0,fsname=fat_rules";
  char* arguments[] = {
      argv[0],       argv[2], const_cast<char*>("-f"), const_cast<char*>("-s"), const_cast<char*>("-o"),
      options.data()};
  return fuse_main(6, arguments, &operations, nullptr);
}
