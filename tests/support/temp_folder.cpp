#include "support/temp_folder.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <ctime>
#include <fstream>
#include <sstream>
#include <stdexcept>

namespace kestrum::test {

namespace fs = std::filesystem;

TempFolder::TempFolder() {
  std::string name = (fs::temp_directory_path() / "kestrum-test-XXXXXX").string();
  if (mkdtemp(name.data()) == nullptr) throw std::runtime_error("no temporary folder");
  path_ = fs::canonical(name).string();
}

TempFolder::~TempFolder() {
  std::error_code code;
  // Tests take permissions away; give them back so that all can be removed.
  for (auto it = fs::recursive_directory_iterator(path_, fs::directory_options::skip_permission_denied, code);
       it != fs::recursive_directory_iterator(); it.increment(code)) {
    if (code) break;
    if (it->is_directory(code) && !it->is_symlink(code))
      fs::permissions(it->path(), fs::perms::owner_all, fs::perm_options::add, code);
  }
  fs::remove_all(path_, code);
}

InMemory::InMemory() {
  if (const char* before = std::getenv("TMPDIR")) before_ = before;
  if (fs::exists("/dev/shm")) setenv("TMPDIR", "/dev/shm", 1);
}

InMemory::~InMemory() {
  before_.empty() ? unsetenv("TMPDIR") : setenv("TMPDIR", before_.c_str(), 1);
}

void write_file(const std::string& path, const std::string& content) {
  fs::create_directories(fs::path(path).parent_path());
  std::ofstream file(path, std::ios::binary | std::ios::trunc);
  file << content;
  file.close();
  if (!file) throw std::runtime_error("cannot write " + path);
}

std::string read_file(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  if (!file) throw std::runtime_error("cannot read " + path);
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

void set_modified(const std::string& path, long seconds_ago) {
  timespec times[2] = {{0, UTIME_OMIT}, {std::time(nullptr) - seconds_ago, 123456789}};
  utimensat(AT_FDCWD, path.c_str(), times, AT_SYMLINK_NOFOLLOW);
}

}  // namespace kestrum::test
