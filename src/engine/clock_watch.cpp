#include "engine/clock_watch.hpp"

#include <algorithm>
#include <cmath>

#include "base/clock_seconds.hpp"

namespace kestrum {

ClockWatch::Change ClockWatch::look() {
  // A second is what rounding and reading two clocks one after the other may make.
  constexpr double trifle = 1.0;
  Change change;
  // The one that is compared is the one that is remembered: no change falls in between.
  const Reading now = read();
  change.slept = now.asleep > last_.asleep + trifle;
  const double passed = (now.boot - last_.boot) * last_.rate;
  const double off = std::chrono::duration<double>(between(last_.wall, now.wall)).count() - passed;
  if (std::abs(off) > trifle * std::max(1.0, last_.rate)) change.set_by = static_cast<std::int64_t>(off);
  last_ = now;
  return change;
}

ClockWatch::Reading ClockWatch::read() const {
  const double boot = clock_seconds(CLOCK_BOOTTIME);
  return {boot, boot - clock_seconds(CLOCK_MONOTONIC), clock_.rate(), clock_.now()};
}

}  // namespace kestrum
