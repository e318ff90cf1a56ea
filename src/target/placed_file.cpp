#include "target/placed_file.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <cstdio>

#include "base/open_beneath.hpp"
#include "base/random.hpp"
#include "target/target_folder.hpp"

namespace kestrum {
namespace {

constexpr std::array<std::pair<std::string_view, Clash>, 4> clashes{{{"keep-both", Clash::keep_both},
                                                                     {"replace", Clash::replace},
                                                                     {"keep-existing", Clash::keep_existing},
                                                                     {"keep-newer", Clash::keep_newer}}};

bool exists(int folder_fd, const std::string& name, struct stat& status) {
  return fstatat(folder_fd, name.c_str(), &status, AT_SYMLINK_NOFOLLOW) == 0;
}

}  // namespace

std::optional<Clash> parse_clash(std::string_view name) {
  for (auto [text, clash] : clashes) {
    if (name == text) return clash;
  }
  return std::nullopt;
}

std::string_view clash_name(Clash clash) {
  for (auto [text, value] : clashes) {
    if (clash == value) return text;
  }
  return "?";
}

std::optional<Placement> placement_by(Clash clash, int folder_fd, const std::string& name, Instant modified,
                                      const std::string& stamp) {
  struct stat status {};
  if (!exists(folder_fd, name, status)) return Placement{name, false};
  switch (clash) {
    case Clash::keep_existing:
      return std::nullopt;
    case Clash::replace:
      return Placement{name, true};
    case Clash::keep_newer: {
      Instant there{status.st_mtim.tv_sec, static_cast<std::int32_t>(status.st_mtim.tv_nsec)};
      if (!(there < modified)) return std::nullopt;
      return Placement{name, true};
    }
    case Clash::keep_both:
      break;
  }
  return Placement{name_beside(folder_fd, name, stamp), false};
}

std::string nth_name_beside(const std::string& name, const std::string& stamp, unsigned n) {
  constexpr std::size_t longest = 255;
  std::size_t dot = name.rfind('.');
  if (dot == std::string::npos || dot == 0) dot = name.size();
  const std::string ending = name.substr(dot);
  const std::string mark = " (from " + stamp + (n == 1 ? ")" : " " + std::to_string(n) + ")");
  std::string stem = name.substr(0, dot);
  if (stem.size() + mark.size() + ending.size() > longest)
    stem.resize(longest - std::min(longest, mark.size() + ending.size()));
  return stem + mark + ending;
}

std::string name_beside(int folder_fd, const std::string& name, const std::string& stamp) {
  struct stat status {};
  for (unsigned n = 1;; ++n) {
    std::string other = nth_name_beside(name, stamp, n);
    if (!exists(folder_fd, other, status)) return other;
  }
}

namespace {

constexpr std::string_view part_begin = ".kestrum-", part_end = ".part";

// Names that no other restore uses at the same time, without asking for random bytes for every file.
std::string next_part_name() {
  static const std::string run = to_hex(random_bytes(8));
  static std::atomic<std::uint64_t> number = 0;
  return std::string(part_begin) + run + "-" + std::to_string(++number) + std::string(part_end);
}

bool is_part_name(std::string_view name) {
  if (!name.starts_with(part_begin) || !name.ends_with(part_end)) return false;
  name.remove_prefix(part_begin.size());
  name.remove_suffix(part_end.size());
  constexpr std::size_t run_length = 16;
  return name.size() > run_length + 1 && name[run_length] == '-' &&
         name.substr(0, run_length).find_first_not_of("0123456789abcdef") == std::string_view::npos &&
         name.substr(run_length + 1).find_first_not_of("0123456789") == std::string_view::npos;
}

}  // namespace

TemporaryFile::TemporaryFile(int folder_fd) : folder_fd_(folder_fd), name_(next_part_name()) {}

TemporaryFile::~TemporaryFile() {
  if (exists_) unlinkat(folder_fd_, name_.c_str(), 0);
}

// Without a name as long as it is written, where the file system can do that: whatever ends this process
// leaves nothing behind.
int TemporaryFile::create_file() {
  // By that name it gets its own later.
  static const bool can_be_named = access("/proc/self/fd", X_OK) == 0;
  if (can_be_named) file_ = FileHandle(openat(folder_fd_, ".", O_WRONLY | O_TMPFILE | O_CLOEXEC, 0600));
  nameless_ = static_cast<bool>(file_);
  if (nameless_) return 0;
  file_ = open_beneath(folder_fd_, name_, O_WRONLY | O_CREAT | O_EXCL, 0600);
  exists_ = static_cast<bool>(file_);
  if (!exists_) return errno;
  flock(file_.get(), LOCK_SH);
  return 0;
}

int TemporaryFile::create_link(const std::string& target) {
  exists_ = symlinkat(target.c_str(), folder_fd_, name_.c_str()) == 0;
  return exists_ ? 0 : errno;
}

int TemporaryFile::create_node(unsigned type_and_mode, unsigned device_major, unsigned device_minor) {
  exists_ = mknodat(folder_fd_, name_.c_str(), type_and_mode, makedev(device_major, device_minor)) == 0;
  return exists_ ? 0 : errno;
}

int TemporaryFile::create_hard_link(int other_folder_fd, const std::string& other_name) {
  exists_ = linkat(other_folder_fd, other_name.c_str(), folder_fd_, name_.c_str(), 0) == 0;
  hard_link_ = exists_;
  return exists_ ? 0 : errno;
}

int TemporaryFile::write(ByteView data) {
  if (!write_full(file_.get(), data)) return errno;
  position_ += data.size();
  ends_in_hole_ = false;
  return 0;
}

int TemporaryFile::skip(std::uint64_t length) {
  position_ += length;
  ends_in_hole_ = true;
  return lseek(file_.get(), static_cast<off_t>(position_), SEEK_SET) < 0 ? errno : 0;
}

std::uint64_t TemporaryFile::largest() {
  constexpr std::uint64_t step = 1u << 20;
  struct stat status {};
  std::uint64_t reached = fstat(file_.get(), &status) == 0 ? static_cast<std::uint64_t>(status.st_size) : 0;
  if (reached >= 64 * step) return reached / step * step;
  // A hole went beyond the limit before anything was written up to it.
  for (std::uint64_t size = step << 20; size > step; size /= 2) {
    if (ftruncate(file_.get(), static_cast<off_t>(size)) == 0) return size;
  }
  return step;
}

int TemporaryFile::end() {
  return ends_in_hole_ && ftruncate(file_.get(), static_cast<off_t>(position_)) != 0 ? errno : 0;
}

int TemporaryFile::take_temporary_name() {
  if (!nameless_) return 0;
  flock(file_.get(), LOCK_SH);  // nobody clears it as a left one
  const int code = give_name(name_);
  exists_ = code == 0;
  nameless_ = !exists_;
  return code;
}

int TemporaryFile::flush() {
  if (const int code = take_temporary_name(); code != 0) return code;
  return fsync(file_.get()) == 0 ? 0 : errno;
}

int TemporaryFile::close() {
  if (!nameless_) return file_.close();
  // It lives by its handle until it has its name; what closing has to tell, closing another one tells too.
  FileHandle second(fcntl(file_.get(), F_DUPFD_CLOEXEC, 0));
  return second ? second.close() : errno;
}

int TemporaryFile::give_name(const std::string& name) {
  const std::string itself = "/proc/self/fd/" + std::to_string(file_.get());
  return linkat(AT_FDCWD, itself.c_str(), folder_fd_, name.c_str(), AT_SYMLINK_FOLLOW) == 0 ? 0 : errno;
}

int TemporaryFile::place(const Placement& placement) {
  if (nameless_ && !placement.replaces) {
    const int code = give_name(placement.name);
    if (code == 0) file_.close();
    return code;
  }
  if (nameless_) {
    if (const int code = take_temporary_name(); code != 0) return code;
    file_.close();
  }
  unsigned flags = placement.replaces ? 0 : RENAME_NOREPLACE;
  int code = renameat2(folder_fd_, name_.c_str(), folder_fd_, placement.name.c_str(), flags) == 0 ? 0 : errno;
  if (code == EINVAL && flags != 0) {  // a file system that does not offer it
    struct stat status {};
    if (exists(folder_fd_, placement.name, status)) return EEXIST;
    code = renameat(folder_fd_, name_.c_str(), folder_fd_, placement.name.c_str()) == 0 ? 0 : errno;
  }
  if (code != 0) return code;
  // Renaming one hard link onto another of the same file does nothing and leaves both names.
  if (hard_link_) unlinkat(folder_fd_, name_.c_str(), 0);
  exists_ = false;
  return 0;
}

void clear_left_file(int folder_fd, const std::string& name) {
  if (!is_part_name(name)) return;
  FileHandle file = open_beneath(folder_fd, name, O_RDONLY | O_NONBLOCK);
  struct stat status {};
  const bool ours = file && fstat(file.get(), &status) == 0 && S_ISREG(status.st_mode) &&
                    status.st_nlink == 1 && status.st_uid == geteuid();
  if (ours && flock(file.get(), LOCK_EX | LOCK_NB) == 0) unlinkat(folder_fd, name.c_str(), 0);
}

}  // namespace kestrum
