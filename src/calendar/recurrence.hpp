// Rules of RFC 5545, by libical.
#pragma once

#include "calendar/phrase.hpp"

namespace kestrum {

// Why the phrase's rule cannot be used, in plain words; empty when it can. Refused besides what does not
// parse: rules by minutes and seconds, hourly rules with BY parts, positions (BYSETPOS) in daily rules, ends
// in UTC, and rules that never happen.
std::string recurrence_trouble(const Phrase& phrase);

// As next_time, for phrases of type rule.
std::optional<Instant> next_by_rule(const Phrase& phrase, Instant after);

}  // namespace kestrum
