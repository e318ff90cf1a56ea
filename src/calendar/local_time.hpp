// Local time through one module that knows about gaps and repeats at clock changes.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "base/clock.hpp"

namespace kestrum {

struct LocalMinute {
  int year = 0;
  int month = 1;
  int day = 1;
  int hour = 0;
  int minute = 0;
  int second = 0;
};

// All of this is in the machine's zone (TZ, or /etc/localtime, looked at once) unless another one was set
// (tests): by its name, like "Europe/London". False when there is no such zone.
bool set_local_zone(const std::string& name);

std::int32_t local_offset_seconds(Instant when);
// "2027-03-14 09:30"; with_zone adds " CET".
std::string local_text(Instant when, bool with_zone = false);
// "2027-03-14"
std::string day_text(Instant when);
// "2027-03-14 09:30:12"
std::string local_text_seconds(Instant when);
// "Mon"
std::string weekday_text(Instant when);
// "CET", or "+0545" where the zone has no letters.
std::string zone_text(Instant when);
LocalMinute to_local(Instant when);
// A time that a clock change skips becomes the first one after it; one that comes twice, the later of both.
Instant from_local_latest(const LocalMinute& local);
Instant from_local_earliest(const LocalMinute& local);
// The last nanosecond of that local day.
Instant end_of_day(int year, int month, int day);

// The same time of day so many days and months earlier (later where they are negative), on the last day of
// the month where there is no such day.
Instant calendar_steps_before(Instant now, int days, int months);

// A moment to go back to: `latest`, a point's number, a date (its end), a date and time, "yesterday",
// "tuesday" (the last one, today included), "last tuesday" (before today), "last week" and "last month"
// (their end), "3 days ago", "09:10" (the last time it was that), and a time behind each of the days:
// "tuesday 09:10".
struct PointWish {
  enum class By { latest, number, moment } by = By::latest;
  std::uint32_t number = 0;
  Instant moment;  // the newest point not later than this
};
// Nothing when the text means none of these.
std::optional<PointWish> parse_point_wish(std::string_view text, Instant now);

// The same text as the beginning of a time: of a day, or of last week or month, its first moment. Nothing
// where it means no moment.
std::optional<Instant> parse_beginning(std::string_view text, Instant now);

}  // namespace kestrum
