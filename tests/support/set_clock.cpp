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
  write_file(file_ + ".new", clock_text(SimulatedClock(now, rate), now) + "\n");
  std::filesystem::rename(file_ + ".new", file_);
}

void SetClock::run_to(const std::string& utc, double rate) {
  const Instant end = *parse_utc(utc);
  const auto left = [&] { return std::chrono::duration<double>(between(now(), end)).count(); };
  // Slower towards the end, so that it is not passed by more than a fraction of a second.
  constexpr double breath = 0.02, fine = 2;  // real seconds, simulated ones
  constexpr double patience = 5;             // breaths that a busy machine may take for one
  while (left() > fine) {
    go(std::min(rate, left() / (patience * breath)));
    std::this_thread::sleep_for(std::chrono::duration<double>(breath));
  }
  set(end, 0);
}

}  // namespace kestrum::test
