#include "target/placed_file.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

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

std::string name_beside(int folder_fd, const std::string& name, const std::string& stamp) {
  std::size_t dot = name.rfind('.');
  if (dot == std::string::npos || dot == 0) dot = name.size();
  std::string ending = name.substr(dot);
  struct stat status {};
  for (unsigned n = 1;; ++n) {
    std::string mark = " (from " + stamp + (n == 1 ? ")" : " " + std::to_string(n) + ")");
    std::string stem = name.substr(0, dot);
    if (stem.size() + mark.size() + ending.size() > 255)
      stem.resize(255 - std::min<std::size_t>(255, mark.size() + ending.size()));
    std::string other = stem + mark + ending;
    if (!exists(folder_fd, other, status)) return other;
  }
}

namespace {

// Names that no other restore uses at the same time, without asking for random bytes for every file.
std::string next_part_name() {
  static const std::string run = to_hex(random_bytes(8));
  static std::atomic<std::uint64_t> number = 0;
  return ".kestrum-" + run + "-" + std::to_string(++number) + ".part";
}

}  // namespace

TemporaryFile::TemporaryFile(int folder_fd) : folder_fd_(folder_fd), name_(next_part_name()) {}

TemporaryFile::~TemporaryFile() {
  if (exists_) unlinkat(folder_fd_, name_.c_str(), 0);
}

int TemporaryFile::create_file() {
  file_ = open_beneath(folder_fd_, name_, O_WRONLY | O_CREAT | O_EXCL, 0600);
  exists_ = static_cast<bool>(file_);
  return exists_ ? 0 : errno;
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

int TemporaryFile::flush() {
  return fsync(file_.get()) == 0 ? 0 : errno;
}

int TemporaryFile::close() {
  return file_.close();
}

int TemporaryFile::place(const Placement& placement) {
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

}  // namespace kestrum
