#include "rules/speed_limit.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

// Below that a run takes for ever.
constexpr std::uint64_t least = 1024;

}  // namespace

std::string SpeedLimit::text() const {
  return size_text(bytes_a_second) + "/s" + (hours ? " " + hours->text() : "");
}

SpeedLimit parse_speed_limit(std::string_view text) {
  const std::size_t slash = text.find("/s");
  const std::optional<std::uint64_t> bytes =
      slash == std::string_view::npos ? std::nullopt : parse_size(trim(text.substr(0, slash)));
  const std::string_view rest = slash == std::string_view::npos ? std::string_view() : text.substr(slash + 2);
  if (!bytes || (!rest.empty() && rest[0] != ' '))
    throw Error(ErrorKind::usage, "'" + printable(text) + "' is no speed",
                "write it like \"20 MiB/s\", or \"5 MiB/s weekdays 08:00 to 18:00\"");
  if (*bytes < least)
    throw Error(ErrorKind::usage, "'" + printable(text) + "' is slower than 1 KiB/s: no run would end",
                "write a larger one, or leave it out");
  SpeedLimit limit{*bytes, {}};
  if (!trim(rest).empty()) limit.hours = parse_open_hours(trim(rest));
  return limit;
}

std::uint64_t speed_at(const std::vector<SpeedLimit>& limits, Instant when) {
  std::uint64_t by_hours = 0, always = 0;
  for (const SpeedLimit& limit : limits) {
    if (limit.hours && !RunWindow{{*limit.hours}, {}}.is_open(when)) continue;
    std::uint64_t& lowest = limit.hours ? by_hours : always;
    lowest = lowest == 0 ? limit.bytes_a_second : std::min(lowest, limit.bytes_a_second);
  }
  return by_hours != 0 ? by_hours : always;
}

}  // namespace kestrum
