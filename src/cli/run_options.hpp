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

}  // namespace kestrum
