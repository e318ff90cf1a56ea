#include "target/names_before.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <memory>

#include "base/text.hpp"
#include "target/placed_file.hpp"

namespace kestrum {
namespace {

template <typename F>
void each_name(int folder_fd, F&& name) {
  int copy = openat(folder_fd, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  std::unique_ptr<DIR, int (*)(DIR*)> dir(copy < 0 ? nullptr : fdopendir(copy), closedir);
  if (!dir) return;
  while (dirent* item = readdir(dir.get())) name(std::string_view(item->d_name));
}

}  // namespace

void NamesBefore::enter(const TreePath& folder, int fd, bool created) {
  if (folders_.contains(folder)) return;
  if (!comes_back_) std::erase_if(folders_, [&](const auto& one) { return !folder.is_within(one.first); });
  Names& names = folders_[folder];
  if (created) return;
  each_name(fd, [&](std::string_view name) { names.emplace(name); });
  for (const std::string& name : names) clear_left_file(fd, name);
}

bool NamesBefore::held(const TreePath& folder, const std::string& name) const {
  auto names = folders_.find(folder);
  return names != folders_.end() && names->second.contains(name);
}

void NamesBefore::replaced(const TreePath& folder, const std::string& name) {
  auto names = folders_.find(folder);
  if (names != folders_.end()) names->second.erase(name);
}

bool lists_name(int folder_fd, const std::string& name) {
  bool found = false;
  each_name(folder_fd, [&](std::string_view one) { found = found || one == name; });
  return found;
}

std::string substitute_name(const std::string& name) {
  constexpr std::size_t longest = 120;
  std::string out;
  for (std::size_t at = 0; at < name.size();) {
    std::size_t length = utf8_length(std::string_view(name).substr(at));
    auto byte = static_cast<unsigned char>(name[at]);
    bool plain = length > 0 && byte >= 0x20 && byte != 0x7f &&
                 std::string_view("\"*/:<>?\\|").find(name[at]) == std::string_view::npos;
    std::string next = plain ? name.substr(at, length) : "_";
    if (out.size() + next.size() > longest) break;
    out += next;
    at += length > 0 ? length : 1;
  }
  while (!out.empty() && (out.back() == '.' || out.back() == ' ')) out.back() = '_';
  return out;
}

bool refuses_name(int code) {
  return code == EINVAL || code == EILSEQ || code == ENAMETOOLONG;
}

}  // namespace kestrum
