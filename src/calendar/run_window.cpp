#include "calendar/run_window.hpp"

#include <cctz/civil_time.h>
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/error.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "calendar/phrase_words.hpp"

namespace kestrum {
namespace {

constexpr int day_minutes = 24 * 60;

std::vector<std::string> words_of(std::string_view text) {
  std::vector<std::string> words;
  for (std::string word : split(text, ' ')) {
    std::transform(word.begin(), word.end(), word.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    while (!word.empty() && word.back() == ',') word.pop_back();
    if (!word.empty()) words.push_back(word);
  }
  return words;
}

// Digits only, that many.
std::optional<int> number(std::string_view text, std::size_t digits) {
  int value = 0;
  auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (text.size() != digits || code != std::errc() || end != text.data() + text.size() || value < 0)
    return std::nullopt;
  return value;
}

[[noreturn]] void refuse_hours(std::string_view text, const std::string& why) {
  throw Error(ErrorKind::usage, "'" + printable(std::string(text)) + "' are no hours: " + why,
              "write them like \"22:00 to 06:00\", or \"weekdays 18:00 to 07:30\"");
}

[[noreturn]] void refuse_days(std::string_view text, const std::string& why) {
  throw Error(
      ErrorKind::usage, "'" + printable(std::string(text)) + "' are no days: " + why,
      "write them like 2027-12-24, \"2027-12-24 to 2028-01-02\", or of every year \"12-24 to 01-02\"");
}

std::optional<int> minute_of(const std::string& text) {
  const std::vector<std::string> parts = split(text, ':');
  if (parts.size() != 2) return std::nullopt;
  const std::optional<int> hour = number(parts[0], 2), minute = number(parts[1], 2);
  if (!hour || !minute || *hour > 24 || *minute > 59 || (*hour == 24 && *minute > 0)) return std::nullopt;
  return *hour * 60 + *minute;
}

unsigned days_of(const std::string& word) {
  if (word == "daily") return all_days;
  if (word == "weekdays") return working_days;
  if (word == "weekends") return weekend_days;
  for (std::size_t i = 0; i < weekday_names.size(); ++i) {
    if (word == weekday_names[i] || word == std::string(weekday_names[i]) + "s") return 1u << i;
  }
  return 0;
}

std::string clock_text(int minutes) {
  return fmt::format("{:02}:{:02}", minutes / 60, minutes % 60);
}

std::optional<CivilDay> day_of(const std::string& text) {
  std::vector<std::string> parts = split(text, '-');
  CivilDay day;
  day.year = 0;
  if (parts.size() == 3) {
    const std::optional<int> year = number(parts[0], 4);
    if (!year || *year == 0) return std::nullopt;
    day.year = *year;
    parts.erase(parts.begin());
  }
  if (parts.size() != 2) return std::nullopt;
  const std::optional<int> month = number(parts[0], 2), of_month = number(parts[1], 2);
  if (!month || !of_month) return std::nullopt;
  day.month = *month;
  day.day = *of_month;
  constexpr int leap_year = 2028;
  const cctz::civil_day real(day.year != 0 ? day.year : leap_year, day.month, day.day);
  if (real.month() != day.month || real.day() != day.day) return std::nullopt;
  return day;
}

std::string text_of(const CivilDay& day) {
  return (day.year != 0 ? fmt::format("{:04}-", day.year) : "") +
         fmt::format("{:02}-{:02}", day.month, day.day);
}

bool covers(const ClosedDays& closed, const cctz::civil_day& day) {
  CivilDay one{static_cast<int>(day.year()), day.month(), day.day()};
  if (closed.first.year != 0) return closed.first <= one && one <= closed.last;
  one.year = 0;
  const bool over_new_year = closed.last < closed.first;
  return over_new_year ? closed.first <= one || one <= closed.last
                       : closed.first <= one && one <= closed.last;
}

Instant at_minute(const cctz::civil_day& day, int minutes) {
  const cctz::civil_day there = day + minutes / day_minutes;
  return from_local_earliest({static_cast<int>(there.year()), there.month(), there.day(),
                              minutes % day_minutes / 60, minutes % 60, 0});
}

struct OpenTime {
  Instant from, to;  // `to` is not in it
};

bool begins_on(const OpenHours& hours, const cctz::civil_day& day) {
  return (hours.weekdays >> static_cast<unsigned>(cctz::get_weekday(day)) & 1) != 0;
}

OpenTime stretch_of(const OpenHours& hours, const cctz::civil_day& day) {
  const int to = hours.to <= hours.from ? hours.to + day_minutes : hours.to;
  return {at_minute(day, hours.from), at_minute(day, to)};
}

}  // namespace

std::string OpenHours::text() const {
  std::vector<std::string> names;
  for (std::size_t i = 0; i < weekday_names.size(); ++i) {
    if ((weekdays >> i & 1) != 0) names.emplace_back(weekday_names[i]);
  }
  std::string days = weekdays == all_days       ? ""
                     : weekdays == working_days ? "weekdays "
                     : weekdays == weekend_days ? "weekends "
                                                : join(names, " and ") + " ";
  return days + clock_text(from) + " to " + clock_text(to);
}

OpenHours parse_open_hours(std::string_view text) {
  const std::vector<std::string> words = words_of(text);
  OpenHours hours;
  std::size_t at = 0;
  unsigned days = 0;
  for (; at < words.size() && (days_of(words[at]) != 0 || words[at] == "and"); ++at)
    days |= days_of(words[at]);
  if (days != 0) hours.weekdays = days;
  if (words.size() != at + 3 || words[at + 1] != "to")
    refuse_hours(text, "a time, 'to' and a time are wanted");
  const std::optional<int> from = minute_of(words[at]), to = minute_of(words[at + 2]);
  if (!from || *from == day_minutes) refuse_hours(text, "'" + printable(words[at]) + "' is no time of day");
  if (!to) refuse_hours(text, "'" + printable(words[at + 2]) + "' is no time of day");
  if (*from == *to) refuse_hours(text, "they never open; the whole day is \"00:00 to 24:00\"");
  hours.from = *from;
  hours.to = *to == 0 ? day_minutes : *to;
  return hours;
}

std::string ClosedDays::text() const {
  return text_of(first) + (last == first ? "" : " to " + text_of(last));
}

ClosedDays parse_closed_days(std::string_view text) {
  const std::vector<std::string> words = words_of(text);
  if (words.size() != 1 && (words.size() != 3 || words[1] != "to"))
    refuse_days(text, "a date is wanted, or two with 'to' between them");
  const std::optional<CivilDay> first = day_of(words[0]), last = day_of(words.back());
  if (!first || !last) refuse_days(text, "'" + printable(first ? words.back() : words[0]) + "' is no date");
  if ((first->year == 0) != (last->year == 0))
    refuse_days(text, "one of them has a year, the other has none");
  if (first->year != 0 && *last < *first) refuse_days(text, "the last day is before the first");
  return {*first, *last};
}

bool RunWindow::is_open(Instant when) const {
  return opens(when) == when;
}

std::optional<Instant> RunWindow::opens(Instant when) const {
  const LocalMinute local = to_local(when);
  const cctz::civil_day today(local.year, local.month, local.day);
  constexpr int ten_years = 10 * 366;
  for (cctz::civil_day day = today; day - today < ten_years; ++day) {
    if (std::any_of(not_on.begin(), not_on.end(), [&](const ClosedDays& one) { return covers(one, day); }))
      continue;
    const Instant begin = std::max(when, at_minute(day, 0)), end = at_minute(day + 1, 0);
    if (only_between.empty() && begin < end) return begin;
    std::optional<Instant> first;
    for (const OpenHours& hours : only_between) {
      // What began the day before may still be open.
      for (const cctz::civil_day& from : {day - 1, day}) {
        if (!begins_on(hours, from)) continue;
        const OpenTime stretch = stretch_of(hours, from);
        const Instant opens = std::max(begin, stretch.from);
        if (opens < std::min(end, stretch.to) && (!first || opens < *first)) first = opens;
      }
    }
    if (first) return first;
  }
  return std::nullopt;
}

}  // namespace kestrum
