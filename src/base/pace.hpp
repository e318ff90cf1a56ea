// Work held to so many bytes a second.
#pragma once

#include <chrono>
#include <cstdint>
#include <functional>
#include <mutex>

#include "base/run_control.hpp"

namespace kestrum {

class Pace {
 public:
  // `limit`: bytes a second now, asked for each piece; 0: none. References must outlive it.
  Pace(std::function<std::uint64_t()> limit, RunControl& control)
      : limit_(std::move(limit)), control_(control) {}

  // Returns when so much more may be done, or at once when a stop was asked for: whoever works hears of that
  // from its own checkpoint. From any thread; of several each has its turn. What was not used is not saved up
  // for more than a tenth of a second.
  void pass(std::uint64_t bytes);

 private:
  using Steady = std::chrono::steady_clock;
  std::function<std::uint64_t()> limit_;
  RunControl& control_;
  std::mutex mutex_;
  Steady::time_point next_;  // all that was let pass is paid for then
};

}  // namespace kestrum
