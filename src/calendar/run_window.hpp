// When runs may start: hours of the day, and days on which they may not.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "calendar/phrase.hpp"

namespace kestrum {

// "22:00 to 06:00", "weekdays 18:00 to 07:30", "saturday and sunday 00:00 to 24:00". One that ends before it
// begins ends on the next day; the days are those on which it begins.
struct OpenHours {
  unsigned weekdays = 0x7f;  // bit 0 is Monday
  int from = 0;              // minutes after midnight, 0 to 1439
  int to = 24 * 60;          // 1 to 1440
  std::string text() const;
};
// Throws Error of kind usage.
OpenHours parse_open_hours(std::string_view text);

// "2027-12-24", "2027-12-24 to 2028-01-02", and of every year "12-25", "12-24 to 01-02".
struct ClosedDays {
  CivilDay first, last;  // both included; year 0: of every year
  std::string text() const;
};
// Throws Error of kind usage.
ClosedDays parse_closed_days(std::string_view text);

struct RunWindow {
  std::vector<OpenHours> only_between;  // none: always
  std::vector<ClosedDays> not_on;

  bool always() const { return only_between.empty() && not_on.empty(); }
  bool is_open(Instant when) const;
  // The first moment from `when` on at which runs may start; nothing when that is not within ten years.
  std::optional<Instant> opens(Instant when) const;
};

// What is allowed and hardly meant: moments that are past, steps that do not divide a day, phrases that come
// at the same minute, and phrases that never fall into the window. One sentence each.
std::vector<std::string> phrase_notes(const std::vector<Phrase>& phrases, Instant now,
                                      const RunWindow& window = {});

}  // namespace kestrum
