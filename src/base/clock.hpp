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
};

class SystemClock final : public Clock {
 public:
  Instant now() const override;
};

// Starts at `start` and runs at `rate` simulated seconds a real second; rate 0 stands still.
class SimulatedClock final : public Clock {
 public:
  SimulatedClock(Instant start, double rate);
  Instant now() const override;
  bool simulated() const override { return true; }

 private:
  Instant start_;
  double rate_;
  std::chrono::steady_clock::time_point begun_;
};

}  // namespace kestrum
