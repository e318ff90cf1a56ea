// A job on one page, in plain words.
#pragma once

#include "job/job.hpp"

namespace kestrum {

// `agent`: one is there, which starts it.
std::string job_summary(const Job& job, Instant now, bool agent);
// In a few words: "documents and 3 more".
std::string short_what(const Job& job);

}  // namespace kestrum
