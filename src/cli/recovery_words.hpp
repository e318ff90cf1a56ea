// A recovery key between paper and program.
#pragma once

#include "archive/recovery_key.hpp"
#include "cli/environment.hpp"

namespace kestrum {

// The nine groups, to be written down; only on a terminal, so that they get into no log.
void show_recovery_groups(const RecoveryKey& key, const Environment& environment);
// Asks for them, one group after the other. Throws Error of kind key: nobody there to ask, or mistyped.
RecoveryKey ask_recovery_key(const Environment& environment);

}  // namespace kestrum
