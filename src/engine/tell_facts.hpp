// What is known of a job when it is decided what is told of it, and what was told before.
#pragma once

#include "engine/status.hpp"
#include "plan/tell_plan.hpp"

namespace kestrum {

// What cannot be read was not told: a word too many is better than one too few.
TellMemory load_tell_memory(const std::string& path);
std::string tell_memory_text(const TellMemory& memory);
// `text`: of tell_memory_text(). Throws Error of kind failed.
void save_tell_memory(const Home& home, const std::string& path, const std::string& text);

// Leaves only the troubles that somebody is told of.
void drop_no_news(JobStatus& status);
// `status`: with those alone. `runs`: of the job, newest first.
TellLook look_for_telling(const Job& job, const JobStatus& status, const std::vector<RunEntry>& runs,
                          Instant now);

// The mark of a drive that is not there: the same trouble for every job that it is missing for.
inline constexpr const char* drive_mark = "drive not there: ";

}  // namespace kestrum
