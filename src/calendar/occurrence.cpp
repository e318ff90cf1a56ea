// When phrases happen.
#include <cctz/civil_time.h>

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "calendar/phrase.hpp"
#include "calendar/recurrence.hpp"

namespace kestrum {
namespace {

cctz::civil_day civil(const CivilDay& day) {
  return cctz::civil_day(day.year, day.month, day.day);
}

cctz::civil_day day_of(Instant when) {
  LocalMinute local = to_local(when);
  return cctz::civil_day(local.year, local.month, local.day);
}

Instant at_time(const cctz::civil_day& day, int hour, int minute) {
  return from_local_earliest({static_cast<int>(day.year()), day.month(), day.day(), hour, minute, 0});
}

bool happens_on(const Phrase& phrase, const cctz::civil_day& day) {
  unsigned weekday = static_cast<unsigned>(cctz::get_weekday(day));  // Monday is 0
  bool right_weekday = (phrase.weekdays >> weekday & 1) != 0;
  int last = (cctz::civil_day(cctz::civil_month(day) + 1) - 1).day();
  switch (phrase.type) {
    case Phrase::Type::weekly:
      return right_weekday;
    case Phrase::Type::monthly_day:
      return day.day() == (phrase.ordinal < 0 ? last : phrase.ordinal);
    case Phrase::Type::monthly_weekday:
      return right_weekday &&
             (phrase.ordinal < 0 ? day.day() + 7 > last : (day.day() - 1) / 7 + 1 == phrase.ordinal);
    case Phrase::Type::every_days:
      return day >= civil(phrase.day) && (day - civil(phrase.day)) % static_cast<int>(phrase.every) == 0;
    default:
      return false;
  }
}

std::optional<Instant> next_by_day(const Phrase& phrase, Instant after) {
  // A time that is skipped may happen on the day after; so begin a day early.
  cctz::civil_day day = day_of(after) - 1;
  if (phrase.type == Phrase::Type::every_days) day = std::max(day, civil(phrase.day));
  constexpr int most_days = 10 * 366;  // a fifth weekday, or the longest step
  for (int i = 0; i < most_days; ++i, ++day) {
    if (!happens_on(phrase, day)) continue;
    Instant when = at_time(day, phrase.hour, phrase.minute);
    if (after < when) return when;
  }
  return std::nullopt;
}

Instant next_hourly(const Phrase& phrase, Instant after) {
  // On whole minutes; zones are shifted by whole minutes against each other.
  std::int64_t seconds = (after.seconds / 60 + 1) * 60;
  while (true) {
    int minute = to_local({seconds, 0}).minute;
    int wait = (phrase.minute - minute + 60) % 60;
    if (wait == 0) return {seconds, 0};
    // Not over a clock change in one step: it may shift minutes.
    Instant there{seconds + std::int64_t{wait} * 60, 0};
    seconds = to_local(there).minute == phrase.minute ? there.seconds : seconds + 60;
  }
}

Instant next_every_minutes(const Phrase& phrase, Instant after) {
  std::int64_t step = std::int64_t{phrase.every} * 60;
  for (cctz::civil_day day = day_of(after);; ++day) {
    Instant begin = at_time(day, 0, 0);
    Instant end = at_time(day + 1, 0, 0);
    std::int64_t gone = after.seconds - begin.seconds;
    Instant when{begin.seconds + (gone < 0 ? 0 : gone / step + 1) * step, 0};
    if (after < when && when < end) return when;
  }
}

}  // namespace

std::optional<Instant> next_time(const Phrase& phrase, Instant after) {
  switch (phrase.type) {
    case Phrase::Type::by_hand:
    case Phrase::Type::on_change:
      return std::nullopt;
    case Phrase::Type::once: {
      Instant when = at_time(civil(phrase.day), phrase.hour, phrase.minute);
      return after < when ? std::optional(when) : std::nullopt;
    }
    case Phrase::Type::hourly:
      return next_hourly(phrase, after);
    case Phrase::Type::every_minutes:
      return next_every_minutes(phrase, after);
    case Phrase::Type::rule:
      return next_by_rule(phrase, after);
    default:
      return next_by_day(phrase, after);
  }
}

std::vector<Occurrence> next_times(const std::vector<Phrase>& phrases, Instant after, std::size_t count) {
  std::vector<Occurrence> out;
  std::vector<std::optional<Instant>> coming;
  for (const Phrase& phrase : phrases) coming.push_back(next_time(phrase, after));
  while (out.size() < count) {
    std::size_t first = coming.size();
    for (std::size_t i = 0; i < coming.size(); ++i) {
      if (coming[i] && (first == coming.size() || *coming[i] < *coming[first])) first = i;
    }
    if (first == coming.size()) break;
    out.push_back({*coming[first], first});
    coming[first] = next_time(phrases[first], *coming[first]);
  }
  return out;
}

}  // namespace kestrum
