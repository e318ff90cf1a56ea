// What people call their files: each category is its standard folders plus its file types anywhere else in
// the chosen homes.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "source/accounts.hpp"
#include "source/selection.hpp"

namespace kestrum {

struct Category {
  const char* name;
  const char* words;                 // for help
  const char* user_folder;           // its key in the XDG user-dirs file; "" when it has none
  std::vector<const char*> folders;  // below the home, taken whole; "" is the home itself
  std::vector<const char*> types;    // endings of names, lower case
};

std::span<const Category> categories();
std::vector<std::string> category_names();

// Adds the categories' names and types to the selection, and gives the places they begin at in these homes.
std::vector<WantedPlace> category_places(Selection& selection, const std::vector<std::string>& chosen,
                                         const std::vector<Account>& people);

}  // namespace kestrum
