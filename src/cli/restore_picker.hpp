// Choosing on a terminal what to restore: the day, the files, where to.
#pragma once

#include "cli/verbs.hpp"

namespace kestrum {

// The words and options of the restore that was chosen: those that were given, and what was picked. `chosen`
// is at the point then. Throws Stopped when nothing was chosen.
std::vector<std::string> pick_restore(const VerbSpec& spec, const Arguments& arguments,
                                      const Environment& environment, ChosenPoint& chosen);

}  // namespace kestrum
