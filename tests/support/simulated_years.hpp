// Years of runs and prunings without any files: sets as values, sizes by a simple model, every decision by
// the real functions.
#pragma once

#include <cstdint>
#include <string>

namespace kestrum::test {

struct YearsResult {
  std::uint64_t years = 0, runs = 0, plans = 0, removed = 0, folds = 0, broken = 0;
  std::uint64_t full = 0;  // runs that found no room
  std::string failure;     // the first one, with its seed; empty: none
};

// Each year is of its own random schedule, kind, renewal, keep rules, drive and sizes. On some drives there
// is a second job, others' data comes and goes, or what was removed does not come free for a while; some
// clocks are wrong for some runs, and some machines are off for weeks. After each plan, and after each step
// of it: every remaining point is complete, the floor holds, the newest undamaged chain is there, and what
// KeepOracle says of plans is so.
YearsResult simulate_years(std::uint64_t first_seed, std::uint64_t years, unsigned most_runs);

}  // namespace kestrum::test
