// How jobs stand, in words.
#pragma once

#include "engine/status.hpp"

namespace kestrum {

// One of a job's troubles: what is wrong, with the drive it is of before it.
std::string trouble_text(const JobTrouble& trouble, const JobStatus& status);
// What to do about it, as a sentence with a command in it; empty where the trouble says that itself.
std::string trouble_advice(const JobTrouble& trouble, const JobStatus& status);
// Whether there is a good point, and how old: "The newest good point is 3 h old."; and what is wrong, if
// something is.
std::string state_sentence(const JobStatus& status, Instant now);
// What came of the last check of everything, and when the next is; empty where the job has no times for them
// and none was made.
std::string checks_sentence(const JobStatus& status);
// "skua: wardens", or the job alone.
std::string job_title(const JobStatus& status);

}  // namespace kestrum
