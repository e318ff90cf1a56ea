// What the verbs about jobs share.
#pragma once

#include "cli/arguments.hpp"
#include "cli/environment.hpp"
#include "engine/disk_sharing.hpp"

namespace kestrum {

// Every key of a job file as an option.
std::vector<OptionSpec> key_options();
// Things that are allowed but worth a word, as notes on standard error.
void print_warnings(const Job& job, const DestinationView& view);

}  // namespace kestrum
