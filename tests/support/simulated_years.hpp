// Years of runs and prunings without any files: sets as values, sizes by a simple model, every decision by
// the real functions.
#pragma once

#include <cstdint>
#include <string>

namespace kestrum::test {

struct YearsResult {
  std::uint64_t years = 0, runs = 0, plans = 0, removed = 0, folds = 0, broken = 0;
  std::string failure;  // the first one, with its seed; empty: none
};

// Each year is of its own random schedule, kind, renewal, keep rules, drive and sizes. After each plan that
// was carried out: every remaining point is complete, the floor holds, the newest undamaged chain is there,
// no promise was broken that could be kept, and asking again changes nothing.
YearsResult simulate_years(std::uint64_t first_seed, std::uint64_t years, unsigned most_runs);

}  // namespace kestrum::test
