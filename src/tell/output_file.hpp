// A file that a person asked for: whole under its name, or not there.
#pragma once

#include <string>

#include "base/file_handle.hpp"

namespace kestrum {

// Written under a temporary name beside it; takes its name with `keep`, and is gone without. Throws Error of
// kind failed or full.
class OutputFile {
 public:
  explicit OutputFile(std::string path);
  ~OutputFile();
  OutputFile(const OutputFile&) = delete;
  OutputFile& operator=(const OutputFile&) = delete;
  const std::string& temporary() const { return temporary_; }
  void write(std::string_view text);
  // Who may read it, whatever the umask is. Otherwise as that says.
  void set_mode(unsigned mode);
  void keep();

 private:
  void flush();
  std::string path_;
  std::string temporary_;
  FileHandle file_;
  std::string pending_;
};

}  // namespace kestrum
