// The coming days of a job on a drive: its schedule, chain and keep rules simulated ahead. Pure; every
// decision is made by the functions that make it in a run.
#pragma once

#include "calendar/phrase.hpp"
#include "plan/keep_plan.hpp"
#include "plan/size_model.hpp"
#include "rules/keep_rules.hpp"
#include "rules/renew_rules.hpp"

namespace kestrum {

struct ForecastQuestion {
  Kind kind = Kind::incremental;
  RenewRules renew = {};
  KeepRules keep = {};
  std::vector<Phrase> runs = {};   // none: one a day from `now` on
  std::vector<KeptSet> sets = {};  // now, in order
  SizeModel sizes = {};
  Instant now = {};
  unsigned days = 30;                 // 1 to 3660
  std::uint64_t total = 0, free = 0;  // of the drive
  bool other_jobs = false;            // see KeepQuestion
};

struct ForecastDay {
  Instant ends;                  // the last moment of the local day
  std::uint64_t job_bytes = 0;   // then
  std::uint64_t peak_bytes = 0;  // of the job's, at any time of the day
  std::size_t points = 0;
  std::size_t restore_sets = 0;   // that the newest point needs, itself included
  unsigned runs = 0, failed = 0;  // failed: no room
};

struct Forecast {
  std::vector<ForecastDay> days;
  std::uint64_t runs = 0, fulls = 0, removed = 0, folded = 0;
  std::uint64_t written_bytes = 0;  // by runs and folding
  std::uint64_t peak_bytes = 0;     // of the job's sets
  std::optional<Instant> full_on;   // the first run for which there is no room
  std::size_t most_restore_sets = 0;
  KeepRules rules = {};         // that were acted on
  std::vector<Promise> broken;  // that a limit overrides, each rule once
};

Forecast forecast(const ForecastQuestion& question);

// The same data in other ways: full, differential, incremental sets, and increments folded for ever.
struct Scenario {
  std::string name;
  bool own = false;  // as the job is now
  Forecast forecast;
};
std::vector<Scenario> forecast_side_by_side(const ForecastQuestion& question);

}  // namespace kestrum
