// Every key a job file knows, in one table: the reader, the options of `job define` and the writer all follow
// it, so a job file, a dialogue and a command line say the same thing.
#pragma once

#include <span>

#include "job/job.hpp"

namespace kestrum {

struct JobKey : FileKey {
  void (*set)(Job& job, const KeyValues& values);  // as TakeKey
};

std::span<const JobKey> job_keys();
const JobKey* find_job_key(const std::string& table, const std::string& key);
const FileKeys& job_file_keys();  // the same

// What holds between keys: throws Error of kind usage.
void check_job(const Job& job);

}  // namespace kestrum
