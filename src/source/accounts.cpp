#include "source/accounts.hpp"

#include <pwd.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <fstream>
#include <memory>

#include "base/error.hpp"
#include "base/text.hpp"
#include "base/tree_path.hpp"

namespace kestrum {
namespace {

// Below are accounts of the system itself; UID_MIN of login.defs(5) on every usual system.
constexpr uid_t first_person = 1000;
constexpr uid_t nobody = 65534;

bool is_folder(const std::string& path) {
  struct stat status {};
  return stat(path.c_str(), &status) == 0 && S_ISDIR(status.st_mode);
}

bool is_person(const passwd& entry) {
  std::string shell = entry.pw_shell == nullptr ? "" : entry.pw_shell;
  bool logs_in = !shell.ends_with("/nologin") && !shell.ends_with("/false");
  bool own_home = std::string_view(entry.pw_dir) != "/";
  return own_home && (entry.pw_uid == 0 || (entry.pw_uid >= first_person && entry.pw_uid != nobody)) &&
         logs_in && is_folder(entry.pw_dir);
}

}  // namespace

People find_people(const std::string& passwd_file, const std::string& home) {
  People people;
  people.me.id = geteuid();
  auto take = [&](const passwd& entry) {
    Account account{entry.pw_name, entry.pw_uid, entry.pw_dir};
    if (account.id == people.me.id && people.me.name.empty()) people.me = account;
    if (is_person(entry)) people.everybody.push_back(account);
  };
  if (passwd_file.empty()) {
    setpwent();
    while (const passwd* entry = getpwent()) take(*entry);
    endpwent();
  } else {
    std::unique_ptr<FILE, int (*)(FILE*)> file(fopen(passwd_file.c_str(), "re"), fclose);
    if (!file)
      throw Error(ErrorKind::usage, "the list of accounts " + printable(passwd_file) + " does not read",
                  "name a file in the form of passwd(5)");
    while (const passwd* entry = fgetpwent(file.get())) take(*entry);
  }
  std::sort(people.everybody.begin(), people.everybody.end(),
            [](const Account& a, const Account& b) { return a.name < b.name; });
  if (!home.empty() && (passwd_file.empty() || people.me.home.empty())) people.me.home = home;
  if (people.me.name.empty()) people.me.name = "me";
  return people;
}

std::map<std::string, std::string> user_folders(const std::string& home) {
  std::map<std::string, std::string> folders;
  std::ifstream file(home + "/.config/user-dirs.dirs");
  std::string line;
  while (std::getline(file, line)) {
    std::string_view text = trim(line);
    std::size_t equals = text.find("=\"");
    if (!text.starts_with("XDG_") || equals == std::string_view::npos || !text.ends_with('"')) continue;
    std::string key(text.substr(0, equals));
    std::string path(text.substr(equals + 2, text.size() - equals - 3));
    if (path.starts_with("$HOME")) path = home + path.substr(5);
    while (path.size() > 1 && path.ends_with('/')) path.pop_back();
    // One that the home lies in would be everything there is.
    std::optional<TreePath> folder = TreePath::parse(path), own = TreePath::parse(home);
    if (path.starts_with('/') && folder && own && !own->is_within(*folder)) folders[key] = path;
  }
  return folders;
}

}  // namespace kestrum
