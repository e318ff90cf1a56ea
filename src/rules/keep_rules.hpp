// How long points are kept. Promises say what stays; limits say how much room there is.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "calendar/span.hpp"

namespace kestrum {

// "every point for 14 days", "one a week for 2 months", "one a year for ever"
struct ThinRule {
  std::optional<Span::Unit> one_each;  // none: every point
  std::optional<Span> during;          // counted back from now; none: for ever
  std::string text() const;
  std::string which() const;     // "every point", "one a week"
  std::string how_long() const;  // " for 14 days", " for ever"
};

struct KeepRules {
  std::optional<Span> age = {};         // a chain stays until all of it is older
  std::optional<unsigned> chains = {};  // the newest so many
  std::optional<unsigned> points = {};  // the newest so many
  std::vector<ThinRule> thin = {};
  std::optional<std::uint64_t> job_limit = {};   // bytes of the job's sets
  std::optional<unsigned> drive_limit = {};      // percent of the drive that may be used, 1 to 99
  std::optional<std::uint64_t> leave_free = {};  // bytes
  unsigned at_least = 2;                         // good points that stay whatever the limits say

  bool any_limit() const { return job_limit || drive_limit || leave_free; }
  bool any() const {
    return age || chains || points || !thin.empty() || job_limit || drive_limit || leave_free;
  }
};

// Each throws Error of kind usage that says how it is written.
ThinRule parse_thin_rule(std::string_view text);
unsigned parse_count_of(std::string_view text, const char* unit);  // "2 points": at least 1
unsigned parse_percent(std::string_view text);

// One line a rule, in plain words. `endless`: of a job whose chain is never renewed.
std::vector<std::string> keep_lines(const KeepRules& rules, bool endless = false);

}  // namespace kestrum
