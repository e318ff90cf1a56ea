// The commands around a run, in plain words.
#pragma once

#include "job/job.hpp"

namespace kestrum {

// On one line; of several the first, and how many there are.
std::string short_command(const std::string& command);
// One fact a line; empty where the job has none.
std::vector<std::string> command_lines(const Job& job);

}  // namespace kestrum
