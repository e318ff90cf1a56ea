#include "engine/start_backoff.hpp"

#include <algorithm>

namespace kestrum {

void StartBackoff::came_to_nothing(const std::string& job, Instant now) {
  constexpr std::int64_t first_seconds = 600, longest_seconds = 6 * 3600;
  Failed& failed = failed_[job];
  failed.when = now;
  failed.not_before = {now.seconds + std::min(first_seconds << failed.in_a_row, longest_seconds),
                       now.nanoseconds};
  failed.in_a_row = std::min(failed.in_a_row + 1, 16u);
}

Instant StartBackoff::not_before(const std::string& job, Instant now) const {
  const auto found = failed_.find(job);
  return found != failed_.end() && found->second.when <= now ? found->second.not_before : Instant{};
}

void StartBackoff::drives_changed(Instant now) {
  constexpr std::int64_t own_doing_seconds = 60;
  for (auto& [job, failed] : failed_) {
    if (now.seconds - failed.when.seconds > own_doing_seconds) failed.not_before = now;
  }
}

}  // namespace kestrum
