#include "support/set_clock.hpp"

#include <algorithm>
#include <filesystem>
#include <thread>

#include "support/temp_folder.hpp"

namespace kestrum::test {

SetClock::SetClock(std::string file, const std::string& utc, double rate) : file_(std::move(file)) {
  set(utc, rate);
}

void SetClock::set(Instant now, double rate) {
  set(SimulatedClock(now, rate));
}

void SetClock::set(const SimulatedClock& clock) {
  write_file(file_ + ".new", clock.text() + "\n");
  std::filesystem::rename(file_ + ".new", file_);
}

void SetClock::run_to(const std::string& utc, double rate) {
  const Instant end = *parse_utc(utc);
  const auto left = [&] { return std::chrono::duration<double>(between(now(), end)).count(); };
  // Slower towards the end, so that others have time for what happens shortly before it.
  constexpr double breath = 0.02, fine = 2;  // real seconds, simulated ones
  constexpr double slowing = 0.1;            // real seconds, in which it does not get closer than a third
  while (left() > fine) {
    set(SimulatedClock(now(), std::min(rate, left() / slowing), std::chrono::steady_clock::now(), end));
    std::this_thread::sleep_for(std::chrono::duration<double>(breath));
  }
  set(end, 0);
}

}  // namespace kestrum::test
