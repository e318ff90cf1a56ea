// What comes next for a job on a drive, without a key and without writing anything.
#pragma once

#include "engine/backup.hpp"
#include "engine/look.hpp"
#include "plan/chain_plan.hpp"
#include "plan/forecast.hpp"

namespace kestrum {

// Points as the plans see them: sealed ones, by what is known of their health.
std::vector<KeptSet> kept_sets(const std::vector<PointInfo>& points);

// The next run and what goes after it. `now`: where nothing is scheduled, the run is then.
struct Outlook {
  std::optional<Instant> when;  // scheduled
  KindDecision next;
  // What it would build on is damaged or lacks something: the kind depends on what still reads of it, which
  // only a preview looks at.
  bool unsure = false;
  KeepPlan after;
  std::vector<KeptSet> sets;  // that plan's, the new one last
};
Outlook look_ahead(const Job& job, const std::vector<PointInfo>& points, const StoreSpace& space,
                   Instant now);

struct JobForecast {
  std::string job;
  std::string root;  // of the drive
  ForecastQuestion question;
  std::vector<Scenario> scenarios;
  bool scheduled = false;  // else one run a day is taken for it
};
// Of a job with several destinations: on the one that the next run goes to, as if all went there. A job with
// no set yet is previewed, which reads a sample of its files. Throws Error as a preview does.
JobForecast forecast_job(const std::string& name, unsigned days, const RunContext& context);

}  // namespace kestrum
