// A command of a job file, run by the shell.
#pragma once

#include <chrono>
#include <map>
#include <string>

#include "base/run_control.hpp"

namespace kestrum {

struct CommandResult {
  int exit_code = 0;       // 128 and the signal when one ended it
  bool timed_out = false;  // it was ended
  std::string output;      // what it said, both streams; the end of it where that is much

  bool good() const { return exit_code == 0 && !timed_out; }
  // "exit code 3: no such share"; "it took longer than 2 min".
  std::string reason(std::chrono::seconds limit) const;
};

// With /bin/sh -c, nothing to read, and `environment` besides our own. One that takes longer than `limit` is
// ended, with what it has started. Throws Error of kind failed when it cannot be started, Stopped.
CommandResult run_shell(const std::string& command, const std::map<std::string, std::string>& environment,
                        std::chrono::seconds limit, RunControl& control);

}  // namespace kestrum
