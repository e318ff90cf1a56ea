#include "calendar/span.hpp"

#include <algorithm>
#include <array>
#include <charconv>

#include "base/error.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

constexpr std::array<const char*, 6> unit_names{"minute", "hour", "day", "week", "month", "year"};
constexpr unsigned most = 100000;

}  // namespace

std::string Span::text() const {
  return count_text(count, unit_names.at(static_cast<std::size_t>(unit)));
}

std::optional<Span> parse_span(std::string_view text) {
  text = trim(text);
  unsigned count = 0;
  auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), count);
  if (code != std::errc() || count == 0 || count > most) return std::nullopt;
  std::string_view unit = trim(text.substr(static_cast<std::size_t>(end - text.data())));
  if (unit.ends_with('s')) unit.remove_suffix(1);
  auto found = std::find(unit_names.begin(), unit_names.end(), unit);
  if (found == unit_names.end()) return std::nullopt;
  return Span{count, static_cast<Span::Unit>(found - unit_names.begin())};
}

Span expect_span(std::string_view text) {
  if (std::optional<Span> span = parse_span(text)) return *span;
  std::string plain(trim(text));
  bool number = !plain.empty() && plain.find_first_not_of("0123456789") == std::string::npos && plain != "0";
  throw Error(ErrorKind::usage,
              "'" + printable(text) + "' is not a length of time" + (number ? ": it has no unit" : ""),
              number ? "did you mean \"" + plain + " days\"?"
                     : "write a number and minutes, hours, days, weeks, months or years, like \"2 days\"");
}

namespace {

// `way`: 1 is back, -1 forth.
Instant steps(Instant now, const Span& span, int way) {
  const int count = static_cast<int>(span.count) * way;
  switch (span.unit) {
    case Span::Unit::minute:
      return {now.seconds - std::int64_t{count} * 60, now.nanoseconds};
    case Span::Unit::hour:
      return {now.seconds - std::int64_t{count} * 3600, now.nanoseconds};
    case Span::Unit::day:
      return calendar_steps_before(now, count, 0);
    case Span::Unit::week:
      return calendar_steps_before(now, count * 7, 0);
    case Span::Unit::month:
      return calendar_steps_before(now, 0, count);
    case Span::Unit::year:
      return calendar_steps_before(now, 0, count * 12);
  }
  return now;
}

}  // namespace

Instant before(Instant now, const Span& span) {
  return steps(now, span, 1);
}

Instant after(Instant then, const Span& span) {
  return steps(then, span, -1);
}

}  // namespace kestrum
