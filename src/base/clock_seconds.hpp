// What a clock of the system counts, for differences.
#pragma once

#include <ctime>

namespace kestrum {

// clock_gettime(2), in seconds.
inline double clock_seconds(clockid_t clock) {
  timespec now{};
  clock_gettime(clock, &now);
  return static_cast<double>(now.tv_sec) + static_cast<double>(now.tv_nsec) * 1e-9;
}

}  // namespace kestrum
