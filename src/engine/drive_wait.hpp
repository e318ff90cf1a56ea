// Waiting for a job's drive to be plugged in, by hand.
#pragma once

#include "engine/reach.hpp"

namespace kestrum {

// Told while somebody waits.
class DriveWaiter {
 public:
  virtual ~DriveWaiter() = default;
  virtual void waits(const Reach& reach) = 0;             // once, at the beginning
  virtual void other_came(const std::string& drive) = 0;  // another drive was plugged in instead
};

// Until one of the job's drives is there, or for so long at most (nothing: as long as it takes). Looks again
// when something is mounted. True: it is there; also where it always was. Throws Stopped, and Error for what
// waiting does not help.
bool wait_for_drive(const Job& job, const RunContext& context, std::optional<std::chrono::seconds> most,
                    DriveWaiter& waiter);

}  // namespace kestrum
