// An iCalendar file (RFC 5545) of moments, for any calendar program.
#pragma once

#include <string>
#include <vector>

#include "base/clock.hpp"

namespace kestrum {

struct CalendarEntry {
  Instant begins;
  std::int64_t seconds = 0;  // how long it lasts, at least a minute in the file
  std::string title;
  std::string words;     // more on it; may be empty
  std::string identity;  // the same for the same entry in a later file
};

// Times in UTC, so that no zone has to come along; `made`: when the file is.
std::string calendar_text(const std::vector<CalendarEntry>& entries, Instant made);

}  // namespace kestrum
