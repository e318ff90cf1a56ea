#include "calendar/recurrence.hpp"

#include <cctz/civil_time.h>
#include <libical/ical.h>

#include <algorithm>
#include <memory>

#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

using Iterator = std::unique_ptr<icalrecur_iterator, void (*)(icalrecur_iterator*)>;

// Floating: libical goes wrong after a clock change when it iterates in a zone.
icaltimetype floating(const CivilDay& day, int hour, int minute) {
  icaltimetype time = icaltime_null_time();
  time.year = day.year;
  time.month = day.month;
  time.day = day.day;
  time.hour = hour;
  time.minute = minute;
  return time;
}

Instant instant_of(const icaltimetype& time) {
  return from_local_earliest({time.year, time.month, time.day, time.hour, time.minute, time.second});
}

bool has_part(const std::string& rule, std::string_view part) {
  return (";" + rule).find(";" + std::string(part) + "=") != std::string::npos;
}

// The last moment of an hourly rule up to then. libical itself counts its steps from where it is set to.
icaltimetype whole_steps_on(const Phrase& phrase, int hours, const LocalMinute& until) {
  const cctz::civil_hour first(phrase.day.year, phrase.day.month, phrase.day.day, phrase.hour);
  const cctz::civil_hour last(until.year, until.month, until.day, until.hour);
  const cctz::civil_hour at = last - (last - first) % std::max(hours, 1);
  return floating({static_cast<int>(at.year()), at.month(), at.day()}, at.hour(), phrase.minute);
}

}  // namespace

std::string recurrence_trouble(const Phrase& phrase) {
  icalrecurrencetype rule = icalrecurrencetype_from_string(phrase.rule.c_str());
  if (rule.freq == ICAL_NO_RECURRENCE) return "'" + printable(phrase.rule) + "' is no rule of RFC 5545";
  bool by_parts = false;
  for (const char* part : {"BYSECOND", "BYMINUTE", "BYHOUR", "BYDAY", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO",
                           "BYMONTH", "BYSETPOS"})
    by_parts = by_parts || has_part(phrase.rule, part);
  if (rule.freq == ICAL_SECONDLY_RECURRENCE || rule.freq == ICAL_MINUTELY_RECURRENCE)
    return "rules by minutes or seconds are said as \"every 20 minutes\"";
  if (rule.freq == ICAL_HOURLY_RECURRENCE && by_parts) return "an hourly rule takes no BY parts";
  if (rule.freq == ICAL_DAILY_RECURRENCE && has_part(phrase.rule, "BYSETPOS"))
    return "positions (BYSETPOS) mean nothing in a daily rule";
  if (has_part(phrase.rule, "UNTIL") &&
      phrase.rule.find('Z', phrase.rule.find("UNTIL=")) != std::string::npos)
    return "its end is in UTC (with a Z) while its start is in local time";
  if (!next_by_rule(phrase, {0, 0})) return "it never happens";
  return {};
}

std::optional<Instant> next_by_rule(const Phrase& phrase, Instant after) {
  icalrecurrencetype rule = icalrecurrencetype_from_string(phrase.rule.c_str());
  LocalMinute near = to_local({after.seconds - 3 * 86400, 0});
  CivilDay jump{near.year, near.month, near.day};
  // With a COUNT it must be counted from the start.
  const bool jumps = rule.count == 0 && jump > phrase.day;
  const bool hourly = rule.freq == ICAL_HOURLY_RECURRENCE;
  icaltimetype start = floating(phrase.day, phrase.hour, phrase.minute);
  if (jumps && hourly) start = whole_steps_on(phrase, rule.interval, near);
  Iterator iterator(icalrecur_iterator_new(rule, start), icalrecur_iterator_free);
  if (!iterator) return std::nullopt;
  if (jumps && !hourly)
    icalrecur_iterator_set_start(iterator.get(), floating(jump, phrase.hour, phrase.minute));
  constexpr int most = 1000000;
  for (int i = 0; i < most; ++i) {
    icaltimetype time = icalrecur_iterator_next(iterator.get());
    if (icaltime_is_null_time(time) != 0) return std::nullopt;
    Instant when = instant_of(time);
    if (after < when) return when;
  }
  return std::nullopt;
}

}  // namespace kestrum
