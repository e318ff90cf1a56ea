// The agent's telling: a process of its own sends what there is, one at a time, when there may be something
// and when the last one said to look again.
#pragma once

#include "engine/agent.hpp"
#include "engine/agent_events.hpp"
#include "engine/run_context.hpp"

namespace kestrum {

class AgentTeller {
 public:
  // `start`: AgentHands::tell. `trouble`: told why none could be started. References must outlive it.
  AgentTeller(const RunContext& context, const std::function<pid_t()>& start, AgentEvents& events,
              std::function<void(const std::string&)> trouble)
      : context_(context), start_(start), events_(events), trouble_(std::move(trouble)) {}

  // There may be something to tell; whether there is the process finds out.
  void want() { wanted_ = true; }
  // Starts one where it is time. `anybody`: somebody is to be told of something at all.
  void look(bool anybody);
  // True: that process was one of its.
  bool ended(pid_t pid);
  bool goes() const { return process_ != 0; }
  void stop() const;
  // When to look again; nothing while one goes.
  std::optional<Instant> next() const { return goes() ? std::nullopt : next_; }

 private:
  void take_in();
  const RunContext& context_;
  const std::function<pid_t()>& start_;
  AgentEvents& events_;
  std::function<void(const std::string&)> trouble_;
  pid_t process_ = 0;  // 0: none
  bool wanted_ = false;
  std::optional<Instant> next_;
};

}  // namespace kestrum
