#include "engine/wall_timer.hpp"

#include <sys/timerfd.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

namespace kestrum {

WallTimer::WallTimer() : timer_(timerfd_create(CLOCK_REALTIME, TFD_CLOEXEC | TFD_NONBLOCK)) {}

void WallTimer::set(std::optional<Instant> when, const Clock& clock) {
  // So far ahead that it does not come.
  constexpr std::int64_t never = std::int64_t{1} << 40;
  const Instant now = SystemClock().now();
  itimerspec spec{};
  spec.it_value.tv_sec = never;
  if (when && clock.simulated()) {
    const double rate = clock.rate();
    const double real = rate <= 0 ? static_cast<double>(never)
                                  : std::chrono::duration<double>(between(clock.now(), *when)).count() / rate;
    if (real < 1e9) {
      // A little later rather than earlier: there would be nothing to do yet.
      const auto nanos = static_cast<std::int64_t>(std::max(0.0, real) * 1e9) + 1000 + now.nanoseconds;
      spec.it_value = {now.seconds + nanos / 1000000000, nanos % 1000000000};
    }
  } else if (when) {
    // Zero would switch the timer off.
    spec.it_value = {std::max<std::int64_t>(when->seconds, 0), std::max(when->nanoseconds, 1)};
  }
  timerfd_settime(timer_.get(), TFD_TIMER_ABSTIME | TFD_TIMER_CANCEL_ON_SET, &spec, nullptr);
}

WallTimer::Woke WallTimer::take() {
  std::uint64_t times = 0;
  if (read(timer_.get(), &times, sizeof times) == sizeof times) return Woke::time;
  return errno == ECANCELED ? Woke::clock : Woke::no;
}

}  // namespace kestrum
