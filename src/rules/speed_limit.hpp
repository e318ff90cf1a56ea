// How fast a run may read and write, also by hours.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "calendar/run_window.hpp"

namespace kestrum {

struct SpeedLimit {
  std::uint64_t bytes_a_second = 0;
  std::optional<OpenHours> hours;  // in which it holds; none: always
  std::string text() const;
};

// "20 MiB/s", "5 MiB/s weekdays 08:00 to 18:00". Throws Error of kind usage.
SpeedLimit parse_speed_limit(std::string_view text);

// The one that holds then: of those whose hours it is the lowest, else the lowest of those without hours.
// 0: none holds.
std::uint64_t speed_at(const std::vector<SpeedLimit>& limits, Instant when);

}  // namespace kestrum
