// The countdown before the machine goes to standby or is switched off, shown.
#pragma once

#include "cli/environment.hpp"
#include "engine/afterwards.hpp"

namespace kestrum {

// `everywhere`: nobody looks at this program: also on all terminals of the machine, and on the desktops.
void finish_shown(const std::vector<RunOutcome>& outcomes, const Environment& environment, bool everywhere);

}  // namespace kestrum
