// What the machine's session manager (org.freedesktop.login1, over D-Bus) is asked and told. Where there is
// no bus, or nobody answers, nothing is known and nothing happens.
#pragma once

#include <optional>
#include <string>

#include "base/file_handle.hpp"

namespace kestrum {

// The machine does not go to standby by itself while the handle is open. An empty one: nobody can be asked;
// `trouble` says why where somebody was there and refused.
FileHandle hold_off_standby(const std::string& why, std::string& trouble);

// Whether the machine runs on its battery; nothing where that cannot be told.
std::optional<bool> on_battery();

// Throws Error of kind failed when that is refused, or nobody can be asked.
void go_to_standby();
void switch_machine_off();

}  // namespace kestrum
