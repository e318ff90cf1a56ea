#include "target/archive_file.hpp"

#include <archive.h>
#include <archive_entry.h>
#include <fcntl.h>
#include <locale.h>
#include <sys/stat.h>

#include <algorithm>
#include <array>
#include <cerrno>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

// The library takes names for text in the locale's letters: ours are bytes, mostly UTF-8.
class Utf8Names {
 public:
  Utf8Names() : locale_(newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr)) {
    if (locale_ != nullptr) before_ = uselocale(locale_);
  }
  ~Utf8Names() {
    if (locale_ == nullptr) return;
    uselocale(before_);
    freelocale(locale_);
  }
  Utf8Names(const Utf8Names&) = delete;
  Utf8Names& operator=(const Utf8Names&) = delete;

 private:
  locale_t locale_, before_ = nullptr;
};

bool ends_in(const std::string& path, std::string_view ending) {
  return path.size() > ending.size() &&
         std::equal(ending.rbegin(), ending.rend(), path.rbegin(),
                    [](char a, char b) { return a == (b >= 'A' && b <= 'Z' ? b + 32 : b); });
}

unsigned mode_of(ArchiveFile::Member::Type type) {
  using Type = ArchiveFile::Member::Type;
  switch (type) {
    case Type::folder:
      return AE_IFDIR;
    case Type::file:
      return AE_IFREG;
    case Type::link:
      return AE_IFLNK;
    case Type::fifo:
      return AE_IFIFO;
    case Type::char_device:
      return AE_IFCHR;
    case Type::block_device:
      return AE_IFBLK;
  }
  return AE_IFREG;
}

}  // namespace

struct ArchiveFile::State {
  State() : archive(archive_write_new()), entry(archive_entry_new()) {}
  ~State() {
    archive_entry_free(entry);
    archive_write_free(archive);
  }
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ::archive* archive;
  archive_entry* entry;
};

std::optional<ArchiveFormat> archive_format(const std::string& path) {
  if (ends_in(path, ".zip")) return ArchiveFormat::zip;
  if (ends_in(path, ".tar.zst")) return ArchiveFormat::tar_zst;
  return std::nullopt;
}

void ArchiveFile::fail(const char* what) const {
  const int code = archive_errno(state_->archive);
  const char* words = archive_error_string(state_->archive);
  if (code == ENOSPC || code == EDQUOT)
    throw Error(ErrorKind::full,
                "there is no space left for " + printable(path_) + "; nothing was made of it",
                "free some, or write it to another drive");
  if (code == EFBIG)
    throw TargetLost(
        ErrorKind::failed,
        printable(path_) + " becomes larger than a file may be on that file system; nothing was made of it",
        "pick less, restore into a folder with --to, or write it to another drive");
  // The library has words of its own for what it finds wrong itself only.
  throw TargetLost(ErrorKind::failed, "cannot " + std::string(what) + " " + printable(path_) + ": " +
                                          (code > 0           ? system_reason(code)
                                           : words != nullptr ? words
                                                              : "") +
                                          "; nothing was made of it");
}

ArchiveFile::ArchiveFile(const std::string& path, ArchiveFormat format) : path_(path), format_(format) {
  const std::size_t slash = path.rfind('/');
  const std::string folder = slash == std::string::npos ? "." : slash == 0 ? "/" : path.substr(0, slash);
  name_ = path.substr(slash == std::string::npos ? 0 : slash + 1);
  folder_ = FileHandle(open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!folder_)
    throw Error(ErrorKind::usage, "cannot open the folder " + printable(folder) + ": " + system_reason(errno),
                "create it first");
  struct stat status {};
  if (fstatat(folder_.get(), name_.c_str(), &status, AT_SYMLINK_NOFOLLOW) == 0)
    throw Error(ErrorKind::usage, printable(path) + " is there already, and nothing is written over it",
                "give another name");
  file_ = std::make_unique<TemporaryFile>(folder_.get());
  if (const int code = file_->create_file(); code != 0) throw system_error("create", path, code);
  state_ = std::make_unique<State>();
  ::archive* const out = state_->archive;
  const bool zip = format == ArchiveFormat::zip;
  bool good =
      (zip ? archive_write_set_format_zip(out) : archive_write_set_format_pax_restricted(out)) == ARCHIVE_OK;
  good = good && (zip || archive_write_add_filter_zstd(out) == ARCHIVE_OK);
  // As other programs know extended attributes; what they do not know is left out.
  if (!zip) archive_write_set_format_option(out, "pax", "xattrheader", "SCHILY");
  // One record at the end, not ten KiB of zeros for a stream of blocks.
  constexpr int block = 64 << 10;
  good = good && archive_write_set_bytes_per_block(out, block) == ARCHIVE_OK &&
         archive_write_set_bytes_in_last_block(out, 1) == ARCHIVE_OK;
  if (!good || archive_write_open_fd(out, file_->handle()) != ARCHIVE_OK) fail("begin");
}

ArchiveFile::~ArchiveFile() {
  // Else freeing it would write the end of an archive that is none.
  if (state_) archive_write_fail(state_->archive);
}

void ArchiveFile::begin(const Member& member, const FileAttributes& attributes) {
  const Utf8Names names;
  archive_entry* const entry = archive_entry_clear(state_->entry);
  const bool zip = format_ == ArchiveFormat::zip;
  constexpr unsigned permission_bits = 07777;
  archive_entry_copy_pathname(entry, member.name.c_str());
  archive_entry_set_mode(entry,
                         static_cast<mode_t>(mode_of(member.type) | (attributes.mode & permission_bits)));
  archive_entry_set_mtime(entry, attributes.modified.seconds, attributes.modified.nanoseconds);
  archive_entry_set_size(entry, static_cast<la_int64_t>(member.other_name ? 0 : member.size));
  if (attributes.give_owner) {
    archive_entry_set_uid(entry, attributes.owner);
    archive_entry_set_gid(entry, attributes.group);
    archive_entry_copy_uname(entry, attributes.owner_name.c_str());
    archive_entry_copy_gname(entry, attributes.group_name.c_str());
  }
  if (member.type == Member::Type::link) archive_entry_copy_symlink(entry, member.target.c_str());
  if (member.other_name) archive_entry_copy_hardlink(entry, member.target.c_str());
  if (member.type == Member::Type::char_device || member.type == Member::Type::block_device) {
    archive_entry_set_rdevmajor(entry, member.device_major);
    archive_entry_set_rdevminor(entry, member.device_minor);
  }
  for (const auto& [name, value] : attributes.extended) {
    if (!zip) archive_entry_xattr_add_entry(entry, name.c_str(), value.data(), value.size());
  }
  // Warnings are of names that are no UTF-8: they are written as the bytes that they are.
  if (archive_write_header(state_->archive, entry) < ARCHIVE_WARN) fail("write to");
}

void ArchiveFile::write(ByteView data) {
  for (ByteView left = data; !left.empty();) {
    const la_ssize_t done = archive_write_data(state_->archive, left.data(), left.size());
    if (done <= 0) fail("write to");
    left = left.subspan(static_cast<std::size_t>(done));
  }
}

void ArchiveFile::zeros(std::uint64_t length) {
  static constexpr std::array<std::uint8_t, 65536> nothing{};
  for (std::uint64_t left = length; left > 0;) {
    const std::uint64_t step = std::min<std::uint64_t>(left, nothing.size());
    write(ByteView(nothing).first(static_cast<std::size_t>(step)));
    left -= step;
  }
}

std::uint64_t ArchiveFile::finish() {
  if (archive_write_close(state_->archive) != ARCHIVE_OK) fail("finish");
  struct stat status {};
  if (fstat(file_->handle(), &status) != 0) throw system_error("look at", path_, errno);
  // What other programs may read: what whoever makes it lets new files be.
  const mode_t mask = umask(0);
  umask(mask);
  constexpr mode_t usual = 0666;
  fchmod(file_->handle(), usual & ~mask);
  int code = file_->flush();
  if (code == 0) code = file_->close();
  if (code == 0) code = file_->place({name_, false});
  if (code == EEXIST)
    throw Error(ErrorKind::failed, printable(path_) + " appeared meanwhile, and nothing is written over it",
                "give another name");
  if (code != 0) throw system_error("put in its place", path_, code);
  if (fsync(folder_.get()) != 0 && errno != EINVAL) throw system_error("flush the folder of", path_, errno);
  return static_cast<std::uint64_t>(status.st_size);
}

}  // namespace kestrum
