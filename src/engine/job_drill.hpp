// A rehearsed restore of a job's files, as it is remembered; and one without anybody who waits for it.
#pragma once

#include "engine/drill.hpp"
#include "engine/job_check.hpp"
#include "ledger/drill_book.hpp"

namespace kestrum {

// What the job says must always be in a drill.
void add_drill_always(const Job& job, DrillRequest& request);
DrillEntry drill_entry(const DrillResult& result, const LookSession& subject, Instant when);
// What goes wrong is the history's trouble.
void remember_drill(const DrillEntry& entry, History& history);
// damage: something did not come back as it was saved; done with problems: it did, and something else needs a
// look.
int exit_code_of(const DrillResult& result);

struct JobDrillOutcome {
  JobCheck entry;
  std::optional<DrillResult> result;
  std::optional<Error> error;
};
// Of the newest point on the destination whose last drill is the oldest, with the job's effort and speed
// limits; brings its destination about as a run does. Never throws for what becomes of the drill.
JobDrillOutcome drill_job(const std::string& name, const RunContext& context);

}  // namespace kestrum
