#include "support/tree.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <stdexcept>

#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

std::vector<std::string> attributes_of(const std::string& path) {
  std::vector<std::string> out;
  std::string names(65536, '\0');
  ssize_t size = llistxattr(path.c_str(), names.data(), names.size());
  for (ssize_t at = 0; at < size;) {
    std::string name = names.c_str() + at;
    at += static_cast<ssize_t>(name.size()) + 1;
    std::string value(65536, '\0');
    ssize_t n = lgetxattr(path.c_str(), name.c_str(), value.data(), value.size());
    value.resize(static_cast<std::size_t>(std::max<ssize_t>(n, 0)));
    out.push_back(name + "=" + value);
  }
  std::sort(out.begin(), out.end());
  return out;
}

void look(const std::string& root, const std::string& below, Snapshot& out) {
  std::string path = below.empty() ? root : root + "/" + below;
  struct stat status {};
  if (lstat(path.c_str(), &status) != 0) throw std::runtime_error("cannot look at " + path);
  Seen seen;
  seen.mode = status.st_mode & 07777;
  seen.owner = status.st_uid;
  seen.group = status.st_gid;
  seen.seconds = status.st_mtim.tv_sec;
  seen.nanoseconds = status.st_mtim.tv_nsec;
  seen.attributes = attributes_of(path);
  if (S_ISREG(status.st_mode)) {
    seen.type = 'f';
    seen.content = read_file(path);
  } else if (S_ISDIR(status.st_mode)) {
    seen.type = 'd';
  } else if (S_ISLNK(status.st_mode)) {
    seen.type = 'l';
    std::string target(4096, '\0');
    target.resize(static_cast<std::size_t>(readlink(path.c_str(), target.data(), target.size())));
    seen.content = target;
    seen.mode = 0;
  } else if (S_ISFIFO(status.st_mode)) {
    seen.type = 'p';
  }
  bool folder = seen.type == 'd';
  if (!folder) seen.links = status.st_nlink;
  out[below] = std::move(seen);
  if (!folder) return;
  DIR* dir = opendir(path.c_str());
  if (dir == nullptr) throw std::runtime_error("cannot list " + path);
  std::vector<std::string> names;
  while (dirent* item = readdir(dir)) {
    std::string name = item->d_name;
    if (name != "." && name != "..") names.push_back(name);
  }
  closedir(dir);
  for (const std::string& name : names) look(root, below.empty() ? name : below + "/" + name, out);
}

}  // namespace

Snapshot take_snapshot(const std::string& folder) {
  Snapshot out;
  look(folder, "", out);
  return out;
}

std::string compare_snapshots(const Snapshot& expected, const Snapshot& found) {
  std::string words;
  int count = 0;
  auto tell = [&](const std::string& text) {
    if (++count <= 10) words += text + "\n";
  };
  for (const auto& [path, seen] : expected) {
    auto other = found.find(path);
    if (other == found.end()) {
      tell("missing: " + path);
      continue;
    }
    const Seen& now = other->second;
    if (now.type != seen.type) tell("other type: " + path);
    if (now.content != seen.content) tell("other content: " + path);
    if (now.mode != seen.mode) tell("other mode: " + path);
    if (now.owner != seen.owner || now.group != seen.group) tell("other owner: " + path);
    if (now.seconds != seen.seconds || now.nanoseconds != seen.nanoseconds) tell("other time: " + path);
    if (now.attributes != seen.attributes) tell("other attributes: " + path);
    if (now.links != seen.links) tell("other number of names: " + path);
  }
  for (const auto& [path, seen] : found) {
    if (!expected.contains(path)) tell("too many: " + path);
  }
  return words;
}

void TreeMaker::scan() {
  files_.clear();
  folders_ = {root_};
  namespace fs = std::filesystem;
  for (const fs::directory_entry& entry : fs::recursive_directory_iterator(root_)) {
    if (entry.is_symlink()) continue;
    if (entry.is_directory()) folders_.push_back(entry.path().string());
    if (entry.is_regular_file()) files_.push_back(entry.path().string());
  }
  std::sort(files_.begin(), files_.end());
  std::sort(folders_.begin(), folders_.end());
}

std::string TreeMaker::new_name() {
  static const std::vector<std::string> odd{
      "dot.",        "blank ",   " lead",  "new\nline", "\xff\xfe", "-dash", "\xc3\xa4\xc3\xb6",
      "back\\slash", "quote\"'", "*star?", "~",         "a.b.c",    "\x01"};
  std::string name = number(5) == 0 ? odd[number(static_cast<unsigned>(odd.size()))] : "n";
  return name + std::to_string(number(100000));
}

std::string TreeMaker::some_folder() {
  return folders_[number(static_cast<unsigned>(folders_.size()))];
}
std::string TreeMaker::some_file() {
  return files_[number(static_cast<unsigned>(files_.size()))];
}

std::string TreeMaker::some_content() {
  unsigned choice = number(20);
  std::size_t size = choice < 3    ? 0
                     : choice < 14 ? number(3000)
                     : choice < 19 ? number(60000)
                                   : 300000 + number(1200000);
  std::string content(size, '\0');
  unsigned style = number(3);
  for (std::size_t i = 0; i < size; ++i)
    content[i] = static_cast<char>(style == 0   ? random_()
                                   : style == 1 ? 'a' + (random_() % 4)
                                                : (i / 100) % 60 + 32);
  return content;
}

void TreeMaker::add_one() {
  std::string path = some_folder() + "/" + new_name();
  if (std::filesystem::exists(std::filesystem::symlink_status(path))) return;
  switch (number(12)) {
    case 0:
    case 1:
      mkdir(path.c_str(), 0700 + number(64));
      folders_.push_back(path);
      return;
    case 2: {
      std::string target = number(2) == 0 ? "nowhere/at all" : "../" + new_name();
      if (symlink(target.c_str(), path.c_str()) != 0) return;
      return;
    }
    case 3:
      if (!files_.empty() && link(some_file().c_str(), path.c_str()) == 0) files_.push_back(path);
      return;
    case 4:
      mkfifo(path.c_str(), 0640);
      return;
    default:
      break;
  }
  write_file(path, some_content());
  if (number(3) == 0) chmod(path.c_str(), number(010000));
  if (number(4) == 0) setxattr(path.c_str(), "user.note", "kept", 4, 0);
  if (number(3) == 0) {
    timespec times[2] = {
        {0, UTIME_OMIT},
        {static_cast<time_t>(number(4000000000u)) - 1000000000, static_cast<long>(number(1000000000))}};
    utimensat(AT_FDCWD, path.c_str(), times, 0);
  }
  files_.push_back(path);
}

void TreeMaker::edit_one() {
  if (files_.empty()) return;
  std::string path = some_file();
  switch (number(5)) {
    case 0: {  // same size, and the same time as before
      struct stat status {};
      lstat(path.c_str(), &status);
      std::string content = read_file(path);
      if (content.empty()) return;
      content[number(static_cast<unsigned>(content.size()))] ^= 1;
      write_file(path, content);
      timespec times[2] = {{0, UTIME_OMIT}, status.st_mtim};
      utimensat(AT_FDCWD, path.c_str(), times, 0);
      return;
    }
    case 1:
      write_file(path, some_content() + read_file(path));
      return;
    case 2:
      chmod(path.c_str(), 0600 + number(64));
      return;
    case 3:
      setxattr(path.c_str(), "user.other", "x", number(2), 0);
      return;
    default:
      write_file(path, some_content());
  }
}

void TreeMaker::drop_one() {
  if (files_.empty()) return;
  std::size_t which = number(static_cast<unsigned>(files_.size()));
  dropped_[files_[which]] = read_file(files_[which]);
  unlink(files_[which].c_str());
  files_.erase(files_.begin() + static_cast<std::ptrdiff_t>(which));
}

void TreeMaker::grow(int things) {
  scan();
  for (int i = 0; i < things; ++i) add_one();
}

void TreeMaker::churn(int steps) {
  scan();
  for (int i = 0; i < steps; ++i) {
    switch (number(6)) {
      case 0:
        add_one();
        break;
      case 1:
        drop_one();
        break;
      case 2:
        if (!dropped_.empty() &&
            std::filesystem::exists(std::filesystem::path(dropped_.begin()->first).parent_path())) {
          write_file(dropped_.begin()->first, dropped_.begin()->second);
          dropped_.erase(dropped_.begin());
        }
        break;
      case 3: {
        std::string folder = some_folder();
        if (folder != root_ && rename(folder.c_str(), (root_ + "/" + new_name()).c_str()) == 0) scan();
        break;
      }
      default:
        edit_one();
    }
  }
}

std::string noise(unsigned seed, std::size_t size) {
  std::mt19937 random(seed);
  std::string out(size, 0);
  for (char& c : out) c = static_cast<char>(random());
  return out;
}

}  // namespace kestrum::test
