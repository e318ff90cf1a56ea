// Logs of runs, kept by number and age: a job that runs every quarter of an hour for years fills no disk.
#pragma once

#include "engine/home.hpp"

namespace kestrum {

struct LogRules {
  std::size_t most = 1000;                    // the newest stay
  std::int64_t oldest_seconds = 366 * 86400;  // older ones go
  std::size_t at_least = 30;                  // stay in any case: the clock may be wrong
};

// As the settings say; the usual where they do not read.
LogRules log_rules(const Home& home, Instant now);

// Of the folder that this run's log lies in; what a log is, is told by its name. Never fails.
void keep_logs(const std::string& log_file, const LogRules& rules = {});

}  // namespace kestrum
