// When points count as made, whatever the clock said: clocks that were wrong, and times in which the job made
// no point although it would have. Rules of time count the job's own days.
#pragma once

#include "plan/keep_plan.hpp"

namespace kestrum {

struct JobTime {
  // For each set: when it counts as made. Its own date, unless that lies out of the order in which the sets
  // were made; then one between the dates beside it.
  std::vector<Instant> made;
  std::vector<bool> misdated;
  // For each set: seconds after it that do not count, because the job made no point in them.
  std::vector<std::int64_t> away;
  bool now_is_behind = false;      // now lies before what most dates say: the clock is wrong now, or was then
  std::optional<Absence> absence;  // the newest set was made after it; or, with nothing after it, now
};

// Sets in order of sequence. Linear in their number where no date is out of order.
JobTime job_time(const std::vector<KeptSet>& sets, Instant now);

}  // namespace kestrum
