#include "calendar/local_time.hpp"

#include <cctz/civil_time.h>
#include <cctz/time_zone.h>

#include <atomic>
#include <charconv>
#include <chrono>
#include <optional>
#include <regex>
#include <string>

#include "base/text.hpp"

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

std::string formatted(const char* format, Instant when) {
  return cctz::format(format, seconds_of(when), zone());
}

// Length of "N units ago" in seconds, nothing for an unknown unit. Days and longer are calendar steps.
std::optional<Instant> steps_ago(std::uint32_t n, std::string_view unit, Instant now) {
  if (unit.ends_with('s')) unit.remove_suffix(1);
  if (unit == "minute") return Instant{now.seconds - std::int64_t{n} * 60, now.nanoseconds};
  if (unit == "hour") return Instant{now.seconds - std::int64_t{n} * 3600, now.nanoseconds};
  cctz::civil_day today(cctz::convert(seconds_of(now), zone()));
  cctz::civil_day then = today;
  if (unit == "day") {
    then = today - std::int64_t{n};
  } else if (unit == "week") {
    then = today - std::int64_t{n} * 7;
  } else if (unit == "month") {
    cctz::civil_month month = cctz::civil_month(today) - std::int64_t{n};
    cctz::civil_day last = cctz::civil_day(month + 1) - 1;
    then = cctz::civil_day(month) + (std::min(today.day(), last.day()) - 1);
  } else if (unit == "year") {
    then = cctz::civil_day(today.year() - n, today.month(), today.day());
  } else {
    return std::nullopt;
  }
  return end_of_day(static_cast<int>(then.year()), then.month(), then.day());
}

}  // namespace

bool set_local_zone(const std::string& name) {
  cctz::time_zone wanted;
  if (!cctz::load_time_zone(name, &wanted)) return false;
  current_zone() = wanted;
  return true;
}

std::int32_t local_offset_seconds(Instant when) {
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

std::optional<PointWish> parse_point_wish(std::string_view text, Instant now) {
  std::string wish(trim(text));
  if (wish == "latest") return PointWish{};
  static const std::regex number("[0-9]{1,9}");
  static const std::regex date(
      "([0-9]{4})-([0-9]{2})-([0-9]{2})(?:[ T]([0-9]{2}):([0-9]{2})(?::([0-9]{2}))?)?");
  static const std::regex ago("([0-9]{1,6}) ([a-z]+) ago");
  std::smatch part;
  if (std::regex_match(wish, number)) {
    return PointWish{PointWish::By::number, static_cast<std::uint32_t>(std::stoul(wish)), {}};
  }
  if (wish == "yesterday") return PointWish{PointWish::By::moment, 0, *steps_ago(1, "day", now)};
  if (wish == "today") return PointWish{PointWish::By::moment, 0, *steps_ago(0, "day", now)};
  if (std::regex_match(wish, part, date)) {
    int year = std::stoi(part[1]), month = std::stoi(part[2]), day = std::stoi(part[3]);
    cctz::civil_day check(year, month, day);
    if (check.month() != month || check.day() != day) return std::nullopt;
    if (!part[4].matched) return PointWish{PointWish::By::moment, 0, end_of_day(year, month, day)};
    int hour = std::stoi(part[4]), minute = std::stoi(part[5]);
    int second = part[6].matched ? std::stoi(part[6]) : 59;  // "09:30" takes in all of that minute
    if (hour > 23 || minute > 59 || second > 59) return std::nullopt;
    Instant moment = from_local_latest({year, month, day, hour, minute, second});
    moment.nanoseconds = 999999999;
    return PointWish{PointWish::By::moment, 0, moment};
  }
  if (std::regex_match(wish, part, ago)) {
    auto moment = steps_ago(static_cast<std::uint32_t>(std::stoul(part[1])), part[2].str(), now);
    if (moment) return PointWish{PointWish::By::moment, 0, *moment};
  }
  return std::nullopt;
}

}  // namespace kestrum
