// One file that holds many, such as other programs open: .zip (APPNOTE.TXT 6.3) or .tar.zst (POSIX pax in a
// Zstandard frame, RFC 8878). It is there under its name once it is whole, or not at all.
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "base/error.hpp"
#include "target/attributes.hpp"
#include "target/placed_file.hpp"

namespace kestrum {

enum class ArchiveFormat { zip, tar_zst };
// By the ending of a file's name, in any case; nothing for others.
std::optional<ArchiveFormat> archive_format(const std::string& path);

// What a restore writes to is of no use any more: it ends.
class TargetLost : public Error {
 public:
  using Error::Error;
};

class ArchiveFile {
 public:
  // Throws Error: usage when the file is there or its folder is not.
  ArchiveFile(const std::string& path, ArchiveFormat format);
  ~ArchiveFile();

  struct Member {
    enum class Type { folder, file, link, fifo, char_device, block_device } type = Type::file;
    std::string name;        // components joined by '/', relative
    std::uint64_t size = 0;  // of a file: exactly so many bytes follow
    std::string target;      // of a link; of a file that is another name of an earlier member, that name
    bool other_name = false;
    unsigned device_major = 0, device_minor = 0;
  };
  // Throw TargetLost: full, failed.
  void begin(const Member& member, const FileAttributes& attributes);
  void write(ByteView data);
  void zeros(std::uint64_t length);
  // Everything was given: on return it is on the drive under its name. Returns its bytes.
  std::uint64_t finish();

  ArchiveFormat format() const { return format_; }

 private:
  struct State;
  [[noreturn]] void fail(const char* what) const;
  std::string path_;
  ArchiveFormat format_;
  FileHandle folder_;
  std::string name_;
  std::unique_ptr<TemporaryFile> file_;
  std::unique_ptr<State> state_;
};

}  // namespace kestrum
