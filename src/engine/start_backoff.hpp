// When a job is tried again whose start came to nothing.
#pragma once

#include <map>
#include <string>

#include "base/clock.hpp"

namespace kestrum {

class StartBackoff {
 public:
  // Each time in a row twice as long, so that a share that is away for weeks does not fill the history.
  void came_to_nothing(const std::string& job, Instant now);
  void began(const std::string& job) { failed_.erase(job); }
  // Nobody tries again before. What a clock that was ahead has said is not waited for.
  Instant not_before(const std::string& job, Instant now) const;
  // Something was plugged in or mounted: what came to nothing is tried again at once. Not what has only just
  // failed: its own mounting and unmounting would have it tried for ever.
  void drives_changed(Instant now);

 private:
  struct Failed {
    Instant when, not_before;
    unsigned in_a_row = 0;
  };
  std::map<std::string, Failed> failed_;  // by job
};

}  // namespace kestrum
