// For how long: a number and a unit, as people say it. Days and longer are steps of the calendar, not so many
// seconds.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "base/clock.hpp"

namespace kestrum {

struct Span {
  enum class Unit { minute, hour, day, week, month, year };
  unsigned count = 0;  // 1 to 100,000
  Unit unit = Unit::day;
  bool operator==(const Span&) const = default;

  std::string text() const;  // "2 days"
};

// "2 days", "1 week", "3 months": nothing for anything else; a unit is required.
std::optional<Span> parse_span(std::string_view text);

// The same, or Error of kind usage that says what is missing.
Span expect_span(std::string_view text);

// The moment that long before `now`; of months and years the same day of the month, or its last one.
Instant before(Instant now, const Span& span);
// The moment that long after it, in the same way.
Instant after(Instant then, const Span& span);

}  // namespace kestrum
