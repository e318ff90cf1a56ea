// Phrases for when a job runs: what a technician says, and the moments it means, in the machine's zone.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/clock.hpp"
#include "base/set_facts.hpp"

namespace kestrum {

// A wall-clock day or moment without a zone.
struct CivilDay {
  int year = 0;
  int month = 1;
  int day = 1;
  auto operator<=>(const CivilDay&) const = default;
};

struct Phrase {
  enum class Type {
    by_hand,          // "by hand"
    once,             // "once at 2027-03-14 09:30"
    hourly,           // "hourly at minute 15"
    every_minutes,    // "every 20 minutes": counted from midnight
    weekly,           // "daily at", "weekdays at", "monday and friday at"
    monthly_day,      // "monthly on the 15th at", "monthly on the last day at"
    monthly_weekday,  // "first sunday at", "last friday at"
    every_days,       // "every 3 days from 2027-03-14 at", "every 2 weeks from ..."
    on_change,        // "on change", "on change, at least every 120 minutes"
    rule,             // "rrule FREQ=MONTHLY;BYDAY=2TU from 2027-03-09 09:30": RFC 5545
  };
  Type type = Type::by_hand;
  std::optional<Kind> kind;  // of the sets these runs write, when it is not the job's
  int hour = 0;
  int minute = 0;         // of the day's time; for hourly, of every hour
  CivilDay day;           // once, every_days, rule: the first
  unsigned every = 0;     // minutes, days; on_change: the longest wait in minutes, 0 for none
  unsigned weekdays = 0;  // bit 0 is Monday
  int ordinal = 0;        // monthly_day: 1 to 31, -1 the last; monthly_weekday: 1 to 5, -1 the last
  std::string rule;       // RFC 5545 recurrence rule, without "RRULE:"

  // In the form that parse_phrase takes and people read.
  std::string text() const;
};

// Case and more blanks than needed do not matter. Throws Error of kind usage with the nearest phrase that
// means something as its hint.
Phrase parse_phrase(std::string_view text);

// The first moment later than `after`, in the machine's zone; nothing when there is none: by hand, on change,
// past its end. A time that a clock change skips happens at the change; one that comes twice happens the
// first time; hourly and every_minutes go by elapsed time, so they happen in both.
std::optional<Instant> next_time(const Phrase& phrase, Instant after);

// The next `count` moments of all phrases together, in order, each with the phrase it comes from.
struct Occurrence {
  Instant when;
  std::size_t phrase = 0;
};
std::vector<Occurrence> next_times(const std::vector<Phrase>& phrases, Instant after, std::size_t count);

}  // namespace kestrum
