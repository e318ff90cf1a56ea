// Says it before there is no good point for longer than a job allows.
#pragma once

#include <functional>

#include "engine/due_desk.hpp"

namespace kestrum {

class PointWarnings {
 public:
  // Told once for each newest point, of the job, in words.
  using Tell = std::function<void(const std::string& job, const std::string& words)>;
  // Returns when the next one is near. Throws Error of the ledger.
  std::optional<Instant> look(DueDesk& desk, Instant now, const Tell& tell);

 private:
  struct Warned {
    Instant since, said;  // of which newest point, and when
  };
  std::map<std::string, Warned> warned_;  // by job
};

}  // namespace kestrum
