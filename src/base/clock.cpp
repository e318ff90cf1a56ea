#include "base/clock.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <fstream>
#include <limits>
#include <vector>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {

std::chrono::nanoseconds between(Instant a, Instant b) {
  // Of times of files, which may be any: as far apart as can be told, which is 292 years.
  constexpr std::int64_t most = std::numeric_limits<std::int64_t>::max() / 1000000000 - 1;
  std::int64_t seconds = 0;
  if (__builtin_sub_overflow(b.seconds, a.seconds, &seconds)) seconds = b.seconds < a.seconds ? -most : most;
  return std::chrono::seconds(std::clamp(seconds, -most, most)) +
         std::chrono::nanoseconds(b.nanoseconds - a.nanoseconds);
}

std::string utc_text(Instant when) {
  namespace ch = std::chrono;
  // The years that four digits can say.
  constexpr ch::sys_seconds first = ch::sys_days(ch::year(0) / 1 / 1);
  constexpr ch::sys_seconds last = ch::sys_days(ch::year(9999) / 12 / 31) + ch::seconds(86399);
  when.seconds = std::clamp<std::int64_t>(when.seconds, first.time_since_epoch().count(),
                                          last.time_since_epoch().count());
  auto days = ch::floor<ch::days>(ch::sys_seconds(ch::seconds(when.seconds)));
  ch::year_month_day date(days);
  ch::hh_mm_ss time(ch::sys_seconds(ch::seconds(when.seconds)) - days);
  std::string text = fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}", static_cast<int>(date.year()),
                                 static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()),
                                 time.hours().count(), time.minutes().count(), time.seconds().count());
  if (when.nanoseconds != 0) text += fmt::format(".{:09}", when.nanoseconds);
  return text + "Z";
}

std::optional<Instant> parse_utc(std::string_view text) {
  namespace ch = std::chrono;
  if (text.size() < 20 || text.back() != 'Z') return std::nullopt;
  auto number = [&](std::size_t at, std::size_t width, char before) -> int {
    if (before != 0 && text[at - 1] != before) return -1;
    int value = -1;
    auto [end, code] = std::from_chars(text.data() + at, text.data() + at + width, value);
    return code == std::errc() && end == text.data() + at + width ? value : -1;
  };
  int year = number(0, 4, 0), month = number(5, 2, '-'), day = number(8, 2, '-');
  int hour = number(11, 2, 'T'), minute = number(14, 2, ':'), second = number(17, 2, ':');
  if (year < 0 || month < 1 || day < 1 || hour < 0 || minute < 0 || second < 0) return std::nullopt;
  ch::year_month_day date{ch::year(year), ch::month(static_cast<unsigned>(month)),
                          ch::day(static_cast<unsigned>(day))};
  if (!date.ok() || hour > 23 || minute > 59 || second > 59) return std::nullopt;
  Instant when{
      ch::sys_seconds(ch::sys_days(date)).time_since_epoch().count() + hour * 3600 + minute * 60 + second, 0};
  std::string_view fraction = text.substr(19, text.size() - 20);
  if (!fraction.empty()) {
    if (fraction[0] != '.' || fraction.size() < 2 || fraction.size() > 10) return std::nullopt;
    std::int32_t scale = 100000000;
    for (char c : fraction.substr(1)) {
      if (c < '0' || c > '9') return std::nullopt;
      when.nanoseconds += (c - '0') * scale;
      scale /= 10;
    }
  }
  return when;
}

Instant SystemClock::now() const {
  timespec now{};
  clock_gettime(CLOCK_REALTIME, &now);
  return {now.tv_sec, static_cast<std::int32_t>(now.tv_nsec)};
}

SimulatedClock::SimulatedClock(Instant start, double rate, Steady begun, std::optional<Instant> until)
    : start_(start), rate_(rate), begun_(begun), until_(until) {}

Instant SimulatedClock::now() const {
  double passed = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun_).count() * rate_;
  auto whole = static_cast<std::int64_t>(passed);
  std::int64_t nanos =
      start_.nanoseconds + static_cast<std::int64_t>((passed - static_cast<double>(whole)) * 1e9);
  const Instant shown{start_.seconds + whole + nanos / 1000000000,
                      static_cast<std::int32_t>(nanos % 1000000000)};
  return until_ ? std::min(shown, *until_) : shown;
}

double SimulatedClock::rate() const {
  return until_ && now() == *until_ ? 0 : rate_;
}

std::string SimulatedClock::text() const {
  const double begun = std::chrono::duration<double>(begun_.time_since_epoch()).count();
  return fmt::format("{},{},{:.9f}", utc_text(start_), rate_, begun) +
         (until_ ? "," + utc_text(*until_) : "");
}

std::optional<SimulatedClock> parse_simulated_clock(const std::string& text, SimulatedClock::Steady begun) {
  const std::vector<std::string> parts = split(text, ',');
  if (parts.size() < 2 || parts.size() > 4) return std::nullopt;
  const std::optional<Instant> start = parse_utc(parts[0]);
  auto number = [](const std::string& digits, double most) -> std::optional<double> {
    char* end = nullptr;
    const double value = std::strtod(digits.c_str(), &end);
    if (digits.empty() || *end != '\0' || !(value >= 0 && value <= most)) return std::nullopt;
    return value;
  };
  const std::optional<double> rate = number(parts[1], 1e9);
  if (!start || !rate) return std::nullopt;
  if (parts.size() > 2) {
    const std::optional<double> since = number(parts[2], 1e12);
    if (!since) return std::nullopt;
    using namespace std::chrono;
    begun = SimulatedClock::Steady(duration_cast<steady_clock::duration>(duration<double>(*since)));
  }
  std::optional<Instant> until;
  if (parts.size() > 3 && !(until = parse_utc(parts[3]))) return std::nullopt;
  return SimulatedClock(*start, *rate, begun, until);
}

ClockFile::ClockFile(std::string path) : path_(std::move(path)) {
  read();
}

SimulatedClock ClockFile::read() const {
  std::ifstream file(path_);
  std::string text;
  std::getline(file, text);
  if (std::optional<SimulatedClock> clock = parse_simulated_clock(text)) return *clock;
  throw Error(ErrorKind::usage, "the clock's file " + printable(path_) + " does not say a start and a rate",
              "write it like 2027-03-01T20:30:00Z,60,1234.5: the last are seconds of the monotonic clock");
}

}  // namespace kestrum
