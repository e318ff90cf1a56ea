// One round for people who have a timer of their own: what is due is run, one after the other, and what
// cannot be waits; then what is to be checked is, and drills that are due are made.
#pragma once

#include "engine/due_desk.hpp"
#include "engine/job_check.hpp"

namespace kestrum {

struct DueRound {
  RunRow row;
  std::vector<JobCheck> checks;          // and drills
  std::map<std::string, DueWait> waits;  // runs
};

// Sits in the agent's seat meanwhile. Throws Error of kind busy when an agent does. `context`: for the
// checks.
DueRound run_due(const RunContext& context, RowListener& listener);

}  // namespace kestrum
