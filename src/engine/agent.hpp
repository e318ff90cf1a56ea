// The agent: starts jobs when they are due, for years. One a home.
#pragma once

#include <sys/types.h>

#include "engine/due_desk.hpp"
#include "ledger/check_book.hpp"

namespace kestrum {

// Told of what happens, as it happens.
class AgentListener {
 public:
  virtual ~AgentListener() = default;
  virtual void ready() {}                              // it looks after the jobs from now on
  virtual void happened(const AgentEvent&) {}          // also kept in the ledger
  virtual void stands(const std::string& /*line*/) {}  // in one line: what goes on, what comes next
  virtual void beats() {}                              // it lives; about as often as AgentSettings::beat
};

struct AgentSettings {
  std::optional<unsigned> side_by_side;  // whatever the settings of the home say; at least 1
  // For whoever wants to know that it lives; zero: nobody does.
  std::chrono::microseconds beat{0};
};

// What it does is done by processes of their own: each starts one, and returns its number. Throws Error.
struct AgentHands {
  std::function<pid_t(const DueStart&)> run;  // makes that run
  // Checks the sets of that job (engine/job_check), or rehearses a restore (engine/job_drill).
  std::function<pid_t(const std::string&, CheckKind)> check;
  std::function<pid_t()> tell;  // sends what is to be told (tell/telling)
};

// Until a signal ends it (SIGTERM, SIGINT, SIGHUP): then the runs it has started are stopped cleanly, and
// what they were for waits for the next agent. Throws Error: busy when there is one already, failed.
void run_agent(const RunContext& context, const AgentSettings& settings, const AgentHands& hands,
               AgentListener& listener);

}  // namespace kestrum
