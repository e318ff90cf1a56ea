// What the verbs about jobs share.
#pragma once

#include "cli/arguments.hpp"
#include "cli/environment.hpp"
#include "engine/disk_sharing.hpp"
#include "job/job_edit.hpp"

namespace kestrum {

// Every key of a file as an option.
std::vector<OptionSpec> key_options(const FileKeys& keys);
// With which a key is taken out.
extern const OptionSpec usual_option;
// What those options and this one ask for. Throws Error of kind usage.
std::vector<KeyChange> key_changes(const Arguments& arguments, const FileKeys& keys);
// Things that are allowed but worth a word, as notes on standard error.
void print_warnings(const Job& job, const DestinationView& view);

}  // namespace kestrum
