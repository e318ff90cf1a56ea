// Every key a job file knows, in one table: the reader, the options of `job define` and the writer all follow
// it, so a job file, a dialogue and a command line say the same thing.
#pragma once

#include <span>

#include "job/job.hpp"

namespace kestrum {

struct JobKey {
  const char* table;
  const char* key;
  bool list;             // takes several values
  const char* value;     // placeholder for help: "FOLDER"
  const char* fallback;  // what holds when it is not given, in words; "" when it is required
  const char* help;
  // Checks and takes over; throws Error of kind usage whose message needs no place.
  void (*set)(Job& job, const std::vector<std::string>& values);

  std::string option() const { return std::string(table) + "-" + key; }
};

std::span<const JobKey> job_keys();
const JobKey* find_job_key(const std::string& table, const std::string& key);
std::vector<std::string> job_tables();

// What holds between keys: throws Error of kind usage.
void check_job(const Job& job);

}  // namespace kestrum
