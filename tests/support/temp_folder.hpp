// A folder for one test, removed with everything in it.
#pragma once

#include <filesystem>
#include <string>

namespace kestrum::test {

class TempFolder {
 public:
  TempFolder();
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;
  const std::string& path() const { return path_; }
  std::string operator/(const std::string& name) const { return path_ + "/" + name; }

 private:
  std::string path_;
};

// As long as it lives, temporary folders lie in memory: on a file system on which little else happens.
class InMemory {
 public:
  InMemory();
  ~InMemory();
  InMemory(const InMemory&) = delete;
  InMemory& operator=(const InMemory&) = delete;

 private:
  std::string before_;
};

void write_file(const std::string& path, const std::string& content);
std::string read_file(const std::string& path);
// Sets the modification time back, so that a test need not wait until a file is old.
void set_modified(const std::string& path, long seconds_ago);

}  // namespace kestrum::test
