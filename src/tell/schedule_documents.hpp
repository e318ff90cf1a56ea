// The coming runs as JSON and as a calendar file.
#pragma once

#include <string>

#include "engine/schedule.hpp"

namespace kestrum {

std::string schedule_document(const Schedule& schedule);
// RFC 5545. `machine`: whose runs they are.
std::string schedule_calendar(const Schedule& schedule, const std::string& machine, Instant now);

}  // namespace kestrum
