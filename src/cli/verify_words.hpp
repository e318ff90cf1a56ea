// What a check found and what could be done, in words that verify and repair share.
#pragma once

#include "engine/repair.hpp"

namespace kestrum {

// Which places do not read, and the files that cannot be restored as they were, if there are any. `subject`:
// of the command.
void print_damage(const VerifyResult& result, const std::string& subject);
// What was mended of a set; `dry`: what could be.
void print_mending(const SetRepair& set, bool dry);

}  // namespace kestrum
