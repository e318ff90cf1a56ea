// How long ago something was, in words.
#pragma once

#include <optional>
#include <string>

#include "base/clock.hpp"

namespace kestrum {

// "3 days ago", "just now", "none", "ahead: 2031-01-01".
std::string age_text(const std::optional<Instant>& when, Instant now);

}  // namespace kestrum
