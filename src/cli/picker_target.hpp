// Where to, on a terminal: a form, and what would become of it.
#pragma once

#include "cli/arguments.hpp"
#include "cli/picker_parts.hpp"

namespace kestrum {

struct PickedTarget {
  enum class Where { folder, in_place, one_file } where = Where::folder;
  std::string folder, file;
  std::string clash = "keep-both";
  std::string layout = "picked";
};

// As the options say, as far as they are given; else a folder where one stands that is not there yet.
PickedTarget target_of(const Arguments& arguments);
// Its options.
std::vector<std::string> target_options(const PickedTarget& target);

// True when the person goes on with it, false to go back.
bool fill_in(PickerScreen& screen, const std::string& title, const std::string& chosen, PickedTarget& target);

}  // namespace kestrum
