// Reading and writing job files (TOML 1.0). Errors name file, line, column, what is wrong and the nearest
// right word.
#pragma once

#include "job/job.hpp"

namespace kestrum {

// Throws Error of kind usage.
Job parse_job(const std::string& name, const std::string& file, const std::string& text);

// Checked like a file's; the text is a new job file.
std::string job_text(const std::string& name, const JobValues& values);

// The command that defines the same job, quoted for the shell: a line for each table.
std::string define_command(const std::string& name, const JobValues& values);

}  // namespace kestrum
