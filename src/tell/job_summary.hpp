// A job on one page, in plain words.
#pragma once

#include "job/job.hpp"

namespace kestrum {

std::string job_summary(const Job& job, Instant now);
// In a few words: "documents and 3 more".
std::string short_what(const Job& job);

}  // namespace kestrum
