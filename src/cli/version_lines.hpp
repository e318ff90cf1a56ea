// Versions of files in words, with the commands that bring them back.
#pragma once

#include "cli/verbs.hpp"
#include "engine/disk_today.hpp"

namespace kestrum {

// What lies there was saved from this machine, under this name.
bool is_of_here(const LookSession& subject, const Environment& environment);

// "Wed 2027-03-10"
std::string weekday_and_day(Instant when);
// "changed by Wed 2027-03-10"
std::string after_text(const FoundVersion& version);

// Of one path: the path, and a line and a command for each version. `first`: nothing was printed before.
void print_versions(const Arguments& arguments, const std::vector<LookSession>& subjects,
                    const std::vector<FoundVersion>& versions, DiskToday& disk, bool first);

}  // namespace kestrum
