// A timer on a wall clock that also wakes when the clock is set and when the machine has slept.
#pragma once

#include <optional>

#include "base/clock.hpp"
#include "base/file_handle.hpp"

namespace kestrum {

class WallTimer {
 public:
  WallTimer();
  // To be polled for reading. Negative when the system gives none.
  int get() const { return timer_.get(); }
  // Nothing: only the clock's being set wakes it. Of a simulated clock the time is real time at its rate; one
  // that stands still never comes.
  void set(std::optional<Instant> when, const Clock& clock);

  enum class Woke { no, time, clock };
  // Why it is readable. It must be set again after that.
  Woke take();

 private:
  FileHandle timer_;
};

}  // namespace kestrum
