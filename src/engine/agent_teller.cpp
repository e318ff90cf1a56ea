#include "engine/agent_teller.hpp"

#include <signal.h>
#include <sys/wait.h>

#include "base/error.hpp"
#include "engine/outbox.hpp"

namespace kestrum {

void AgentTeller::look(bool anybody) {
  const Instant now = context_.clock.now();
  if (next_ && *next_ <= now) wanted_ = true;
  if (!wanted_ || goes()) return;
  wanted_ = false;
  next_.reset();
  if (!anybody) return;
  try {
    process_ = start_();
    if (!events_.watch_process(process_)) take_in();
  } catch (const Error& error) {
    process_ = 0;
    next_ = {now.seconds + in_time_seconds, 0};
    trouble_(error.what());
  }
}

bool AgentTeller::ended(pid_t pid) {
  if (!goes() || pid != process_) return false;
  take_in();
  return true;
}

void AgentTeller::take_in() {
  waitpid(process_, nullptr, 0);
  process_ = 0;
  next_ = look_at_outbox(context_.home).look_again;
  // One that was cut off has not looked: never at once again and again.
  const Instant now = context_.clock.now();
  if (next_ && *next_ <= now) next_ = {now.seconds + in_time_seconds, 0};
}

void AgentTeller::stop() const {
  if (goes()) kill(process_, SIGTERM);
}

}  // namespace kestrum
