// The people who have an account on the machine, and their homes.
#pragma once

#include <sys/types.h>

#include <map>
#include <string>
#include <vector>

namespace kestrum {

struct Account {
  std::string name;
  uid_t id = 0;
  std::string home;  // absolute
};

struct People {
  Account me;                      // who runs this
  std::vector<Account> everybody;  // who can log in and has a home that is there; in order of names
};

// From the system's account database, or from a file in the form of passwd(5) (demo, tests). `home`: of
// whoever runs this, when it is not the one named there. Throws Error of kind usage when the file does not
// read.
People find_people(const std::string& passwd_file, const std::string& home);

// The user's folders by their keys of the user-dirs file (XDG user directories, ~/.config/user-dirs.dirs):
// "XDG_PICTURES_DIR" -> absolute path. A folder that is the home itself means that there is none and is left
// away. Empty when there is no such file.
std::map<std::string, std::string> user_folders(const std::string& home);

}  // namespace kestrum
