#include "tell/age_words.hpp"

#include <algorithm>

#include "calendar/local_time.hpp"

namespace kestrum {

std::string age_text(const std::optional<Instant>& when, Instant now) {
  if (!when) return "none";
  constexpr std::int64_t trifling = 120;
  if (when->seconds > now.seconds + trifling) return "ahead: " + day_text(*when);
  std::int64_t seconds = std::chrono::duration_cast<std::chrono::seconds>(between(*when, now)).count();
  auto minutes = static_cast<std::uint64_t>(std::max<std::int64_t>(seconds, 0)) / 60;
  if (minutes < 2) return "just now";
  if (minutes < 120) return std::to_string(minutes) + " min ago";
  if (minutes < 48 * 60) return std::to_string(minutes / 60) + " h ago";
  return std::to_string(minutes / (24 * 60)) + " days ago";
}

}  // namespace kestrum
