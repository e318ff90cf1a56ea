#include "base/pace.hpp"

#include <algorithm>
#include <thread>

namespace kestrum {

void Pace::pass(std::uint64_t bytes) {
  const std::uint64_t limit = limit_();
  if (limit == 0) return;
  const auto cost = std::chrono::duration_cast<Steady::duration>(
      std::chrono::duration<double>(static_cast<double>(bytes) / static_cast<double>(limit)));
  constexpr std::chrono::milliseconds saved(100), slice(50);
  Steady::time_point until;
  {
    const std::lock_guard lock(mutex_);
    next_ = std::max(next_, Steady::now() - saved) + cost;
    until = next_;
  }
  while (Steady::now() < until && !control_.stop_requested()) {
    std::this_thread::sleep_for(std::min<Steady::duration>(slice, until - Steady::now()));
  }
}

}  // namespace kestrum
