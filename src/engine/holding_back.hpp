// Whether a job's runs are to leave the machine alone now: [when] hold-back.
#pragma once

#include <string_view>

#include "job/job.hpp"

namespace kestrum {

// Asks the session manager and the kernel, of a job that wants it. Where they do not tell, nothing is held
// back.
bool held_back_now(const Job& job);

// By the text of /proc/loadavg: more than three of four processors had work in the last minute.
bool is_loaded(std::string_view loadavg, unsigned processors);

}  // namespace kestrum
