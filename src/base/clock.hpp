// Wall-clock moments, and the clock that is passed to every decision. Monotonic time is
// std::chrono::steady_clock, another type, so that the two cannot be mixed up.
#pragma once

#include <chrono>
#include <compare>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace kestrum {

// UTC, seconds since 1970 and 0 to 999,999,999 nanoseconds (also before 1970).
struct Instant {
  std::int64_t seconds = 0;
  std::int32_t nanoseconds = 0;
  auto operator<=>(const Instant&) const = default;
};

// b - a.
std::chrono::nanoseconds between(Instant a, Instant b);

// "2027-03-01T20:30:00Z", with a fraction when there is one. RFC 3339.
std::string utc_text(Instant when);
std::optional<Instant> parse_utc(std::string_view text);

class Clock {
 public:
  virtual ~Clock() = default;
  virtual Instant now() const = 0;
  // True when this clock was set by hand (tests, demo): what is written under it says so.
  virtual bool simulated() const { return false; }
  // So many seconds of it pass in a real one; 0: it stands still.
  virtual double rate() const { return 1; }
  // A file that changes when the clock is set; empty: the kernel tells it.
  virtual std::string told_by() const { return {}; }
};

class SystemClock final : public Clock {
 public:
  Instant now() const override;
};

// Starts at `start` and runs at `rate` simulated seconds a real second; rate 0 stands still.
class SimulatedClock final : public Clock {
 public:
  using Steady = std::chrono::steady_clock::time_point;
  // `begun`: when it showed `start`. On one machine all processes can share it. `until`: it stands still from
  // then on.
  SimulatedClock(Instant start, double rate, Steady begun = std::chrono::steady_clock::now(),
                 std::optional<Instant> until = {});
  Instant now() const override;
  bool simulated() const override { return true; }
  double rate() const override;
  // As parse_simulated_clock() takes it, with BEGUN.
  std::string text() const;

 private:
  Instant start_;
  double rate_;
  Steady begun_;
  std::optional<Instant> until_;
};

// "START,RATE", "START,RATE,BEGUN" or "START,RATE,BEGUN,UNTIL": a moment in UTC, seconds of the monotonic
// clock at which it was that, and another moment. `begun`: where BEGUN is not given.
std::optional<SimulatedClock> parse_simulated_clock(
    const std::string& text, SimulatedClock::Steady begun = std::chrono::steady_clock::now());

// The same, in a file that may be replaced while processes run: setting their clock.
class ClockFile final : public Clock {
 public:
  // Throws Error of kind usage when the file does not say it.
  explicit ClockFile(std::string path);
  Instant now() const override { return read().now(); }
  bool simulated() const override { return true; }
  double rate() const override { return read().rate(); }
  std::string told_by() const override { return path_; }

 private:
  SimulatedClock read() const;
  std::string path_;
};

}  // namespace kestrum
