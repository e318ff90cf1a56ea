// When a new full set is due. Any of the rules is enough.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "calendar/span.hpp"

namespace kestrum {

struct RenewRules {
  std::optional<unsigned> every_sets;     // the chain has so many
  std::optional<Span> every;              // the full set is that old
  bool week = false, month = false;       // it is of an earlier calendar week (Monday first), or month
  std::optional<unsigned> restore_needs;  // a restore from the next set would need more
  std::optional<unsigned> outgrown;       // the sets on it hold more than so many times its stored bytes

  bool never() const { return !every_sets && !every && !week && !month && !restore_needs && !outgrown; }
  // In the words that parse_renew takes; empty when never.
  std::vector<std::string> texts() const;
};

// "every 30 sets", "every 30 days", "first run of a week", "first run of a month", "a restore needs 20 sets",
// "outgrown 2 times"; or "never" alone. Throws Error of kind usage.
RenewRules parse_renew(const std::vector<std::string>& texts);

}  // namespace kestrum
