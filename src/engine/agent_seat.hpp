// One agent a home.
#pragma once

#include "base/file_handle.hpp"
#include "engine/home.hpp"

namespace kestrum {

// Who sits there.
struct AgentHere {
  int pid = 0;
  std::string what;  // "agent", or "run --due"
  Instant since;
};

// Held until destroyed, or until the process ends, however it does.
class AgentSeat {
 public:
  // Throws Error of kind busy, which says who is there; failed when the home cannot be written.
  AgentSeat(const Home& home, const std::string& what, Instant now);

 private:
  FileHandle file_;
};

// Nobody, where it cannot be told. Does not disturb who sits there.
std::optional<AgentHere> agent_here(const Home& home);

}  // namespace kestrum
