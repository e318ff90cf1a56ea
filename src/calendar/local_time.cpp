#include "calendar/local_time.hpp"

#include <cctz/civil_time.h>
#include <cctz/time_zone.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <charconv>
#include <chrono>
#include <optional>
#include <regex>
#include <string>

#include "base/text.hpp"
#include "calendar/span.hpp"

namespace kestrum {
namespace {

using Seconds = std::chrono::time_point<std::chrono::system_clock, cctz::seconds>;

Seconds seconds_of(Instant when) {
  return Seconds(cctz::seconds(when.seconds));
}
Instant instant_of(Seconds when) {
  return {when.time_since_epoch().count(), 0};
}

// A zone is a small value that refers to data kept for ever.
std::atomic<cctz::time_zone>& current_zone() {
  static std::atomic<cctz::time_zone> zone{cctz::local_time_zone()};
  return zone;
}
cctz::time_zone zone() {
  return current_zone().load();
}

cctz::civil_second civil(const LocalMinute& local) {
  return cctz::civil_second(local.year, local.month, local.day, local.hour, local.minute, local.second);
}

// Counts the zones that were set, so that what was kept of another one is known as such.
std::atomic<std::uint32_t> zone_number{1};

constexpr std::int64_t week_seconds = 7 * 86400;

// The offset of a whole week, where no clock changes within it.
struct WeekOffset {
  std::int64_t week = 0;
  std::uint32_t zone = 0;  // 0: nothing is kept here
  std::int32_t offset = 0;
};

std::optional<WeekOffset> offset_of_week(std::int64_t week) {
  Seconds begin{cctz::seconds(week * week_seconds)};
  Seconds last{cctz::seconds((week + 1) * week_seconds - 1)};
  cctz::time_zone::civil_transition change;
  if (zone().next_transition(begin, &change)) {
    cctz::civil_second at = std::min(change.from, change.to);
    if (zone().lookup(at).trans <= last) return std::nullopt;
  }
  return WeekOffset{week, zone_number.load(), zone().lookup(begin).offset};
}

std::string formatted(const char* format, Instant when) {
  return cctz::format(format, seconds_of(when), zone());
}

}  // namespace

bool set_local_zone(const std::string& name) {
  cctz::time_zone wanted;
  if (!cctz::load_time_zone(name, &wanted)) return false;
  current_zone() = wanted;
  ++zone_number;
  return true;
}

std::int32_t local_offset_seconds(Instant when) {
  // Forecasts ask for thousands of points, hundreds of thousands of times.
  static thread_local std::array<WeekOffset, 1024> known;
  std::int64_t week = when.seconds / week_seconds - (when.seconds % week_seconds < 0 ? 1 : 0);
  WeekOffset& kept = known[static_cast<std::size_t>(week) % known.size()];
  if (kept.zone == zone_number.load(std::memory_order_relaxed) && kept.week == week) return kept.offset;
  if (std::optional<WeekOffset> found = offset_of_week(week)) {
    kept = *found;
    return kept.offset;
  }
  return zone().lookup(seconds_of(when)).offset;
}

std::string zone_text(Instant when) {
  std::string text = zone().lookup(seconds_of(when)).abbr;
  return text;
}

std::string local_text(Instant when, bool with_zone) {
  std::string text = formatted("%Y-%m-%d %H:%M", when);
  return with_zone ? text + " " + zone_text(when) : text;
}

std::string weekday_text(Instant when) {
  return formatted("%a", when);
}

std::string day_text(Instant when) {
  return local_text(when).substr(0, 10);
}

std::string local_text_seconds(Instant when) {
  return formatted("%Y-%m-%d %H:%M:%S", when);
}

LocalMinute to_local(Instant when) {
  cctz::civil_second local = cctz::convert(seconds_of(when), zone());
  return {static_cast<int>(local.year()),
          local.month(),
          local.day(),
          local.hour(),
          local.minute(),
          local.second()};
}

Instant from_local_latest(const LocalMinute& local) {
  auto found = zone().lookup(civil(local));
  using Lookup = cctz::time_zone::civil_lookup;
  if (found.kind == Lookup::SKIPPED) return instant_of(found.trans);
  return instant_of(found.kind == Lookup::REPEATED ? found.post : found.pre);
}

Instant from_local_earliest(const LocalMinute& local) {
  auto found = zone().lookup(civil(local));
  return instant_of(found.kind == cctz::time_zone::civil_lookup::SKIPPED ? found.trans : found.pre);
}

Instant end_of_day(int year, int month, int day) {
  cctz::civil_day next = cctz::civil_day(year, month, day) + 1;
  LocalMinute midnight{static_cast<int>(next.year()), next.month(), next.day(), 0, 0, 0};
  Instant end = from_local_earliest(midnight);
  return {end.seconds - 1, 999999999};
}

Instant calendar_steps_before(Instant now, int days, int months) {
  cctz::civil_second local = cctz::convert(seconds_of(now), zone());
  cctz::civil_day day(local);
  if (months != 0) {
    cctz::civil_month month = cctz::civil_month(day) - months;
    cctz::civil_day last = cctz::civil_day(month + 1) - 1;
    day = cctz::civil_day(month) + (std::min(day.day(), last.day()) - 1);
  }
  day -= days;
  Instant then = from_local_earliest(
      {static_cast<int>(day.year()), day.month(), day.day(), local.hour(), local.minute(), local.second()});
  then.nanoseconds = now.nanoseconds;
  return then;
}

namespace {

// Days and longer mean the end of that day.
Instant ago(const Span& span, Instant now) {
  Instant then = before(now, span);
  if (span.unit < Span::Unit::day) return then;
  LocalMinute day = to_local(then);
  return end_of_day(day.year, day.month, day.day);
}

std::optional<cctz::civil_day> named_day(std::string text, cctz::civil_day today) {
  static const std::regex date("([0-9]{4})-([0-9]{2})-([0-9]{2})");
  std::smatch part;
  if (text == "today") return today;
  if (text == "yesterday") return today - 1;
  if (std::regex_match(text, part, date)) {
    const int month = std::stoi(part[2]), day = std::stoi(part[3]);
    const cctz::civil_day named(std::stoi(part[1]), month, day);
    return named.month() == month && named.day() == day ? std::optional(named) : std::nullopt;
  }
  if (text == "last week") return cctz::prev_weekday(today + 1, cctz::weekday::monday) - 1;
  if (text == "last month") return cctz::civil_day(cctz::civil_month(today)) - 1;
  static constexpr std::string_view names[] = {"monday", "tuesday",  "wednesday", "thursday",
                                               "friday", "saturday", "sunday"};
  const bool last = text.starts_with("last ");
  if (last) text.erase(0, 5);
  for (std::size_t i = 0; i < std::size(names); ++i) {
    if (text != names[i] && text != names[i].substr(0, 3)) continue;
    return cctz::prev_weekday(last ? today : today + 1, static_cast<cctz::weekday>(i));
  }
  return std::nullopt;
}

// `time`: hour, minute and perhaps second behind each other, from that group on.
std::optional<Instant> at_time(cctz::civil_day day, const std::smatch& time, std::size_t group) {
  const int hour = std::stoi(time[group]), minute = std::stoi(time[group + 1]);
  // "09:30" takes in all of that minute.
  const int second = time[group + 2].matched ? std::stoi(time[group + 2]) : 59;
  if (hour > 23 || minute > 59 || second > 59) return std::nullopt;
  Instant moment =
      from_local_latest({static_cast<int>(day.year()), day.month(), day.day(), hour, minute, second});
  moment.nanoseconds = 999999999;
  return moment;
}

// In small letters.
std::optional<Instant> wished_moment(const std::string& wish, Instant now) {
  static const std::regex time("([0-9]{1,2}):([0-9]{2})(?::([0-9]{2}))?");
  static const std::regex day_and_time("(.*[^ ])[ t]+([0-9]{1,2}):([0-9]{2})(?::([0-9]{2}))?");
  const cctz::civil_day today(cctz::convert(seconds_of(now), zone()));
  std::smatch part;
  if (std::regex_match(wish, part, time)) {
    const LocalMinute clock = to_local(now);
    const bool to_come =
        std::pair(std::stoi(part[1]), std::stoi(part[2])) > std::pair(clock.hour, clock.minute);
    return at_time(to_come ? today - 1 : today, part, 1);
  }
  if (std::regex_match(wish, part, day_and_time)) {
    const std::optional<cctz::civil_day> day = named_day(part[1], today);
    return day ? at_time(*day, part, 2) : std::nullopt;
  }
  const std::optional<cctz::civil_day> day = named_day(wish, today);
  if (!day) return std::nullopt;
  return end_of_day(static_cast<int>(day->year()), day->month(), day->day());
}

}  // namespace

std::optional<PointWish> parse_point_wish(std::string_view text, Instant now) {
  std::string wish(trim(text));
  if (wish == "latest") return PointWish{};
  static const std::regex number("[0-9]{1,9}");
  if (std::regex_match(wish, number))
    return PointWish{PointWish::By::number, static_cast<std::uint32_t>(std::stoul(wish)), {}};
  std::transform(wish.begin(), wish.end(), wish.begin(),
                 [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; });
  constexpr std::string_view ending = " ago";
  std::optional<Instant> moment = wished_moment(wish, now);
  if (!moment && wish.ends_with(ending)) {
    std::string_view span = std::string_view(wish).substr(0, wish.size() - ending.size());
    if (std::optional<Span> back = parse_span(span)) moment = ago(*back, now);
  }
  if (!moment) return std::nullopt;
  return PointWish{PointWish::By::moment, 0, *moment};
}

std::optional<Instant> parse_beginning(std::string_view text, Instant now) {
  const std::optional<PointWish> wish = parse_point_wish(text, now);
  if (!wish || wish->by != PointWish::By::moment) return std::nullopt;
  const LocalMinute local = to_local(wish->moment);
  if (wish->moment != end_of_day(local.year, local.month, local.day)) return wish->moment;
  const std::string_view words = trim(text);
  constexpr int week = 6;  // days before its last one
  if (words == "last month") return from_local_earliest({local.year, local.month, 1});
  const LocalMinute first =
      words == "last week" ? to_local(calendar_steps_before(wish->moment, week, 0)) : local;
  return from_local_earliest({first.year, first.month, first.day});
}

}  // namespace kestrum
