// Comma-separated values (RFC 4180).
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/clock.hpp"
#include "base/text.hpp"

namespace kestrum {

inline std::string csv_field(const std::string& text) {
  if (text.find_first_of("\",\r\n") == std::string::npos) return text;
  std::string out = "\"";
  for (char c : text) out += c == '"' ? std::string("\"\"") : std::string(1, c);
  return out + "\"";
}

// Of so many columns; those at the end that are not given are empty.
inline std::string csv_line(std::vector<std::string> cells, std::size_t columns) {
  cells.resize(columns);
  for (std::string& cell : cells) cell = csv_field(to_utf8(cell));
  return join(cells, ",") + "\r\n";
}

// UTC, in whole seconds; nothing for nothing.
inline std::string csv_moment(const std::optional<Instant>& when) {
  return when ? utc_text({when->seconds, 0}) : "";
}

}  // namespace kestrum
