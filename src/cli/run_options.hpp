// What preview and run share.
#pragma once

#include "cli/arguments.hpp"
#include "cli/environment.hpp"
#include "engine/backup.hpp"

namespace kestrum {

extern const OptionSpec kind_option;
extern const OptionSpec break_lock_option;
// Of --kind.
std::optional<Kind> wanted_kind(const Arguments& arguments);
// References must outlive it.
RunContext run_context(const Environment& environment, Observer& observer);

// Asks before something is given up for good. Throws Stopped when the answer is no, Error of kind usage where
// there is no terminal to ask on: --yes is to say it then.
void confirm(const Environment& environment, const std::string& question, const std::string& help);

}  // namespace kestrum
