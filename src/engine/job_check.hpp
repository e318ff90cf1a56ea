// A check of everything that a job has, without anybody who waits for it: as much as the job says.
#pragma once

#include "engine/verify.hpp"
#include "ledger/check_book.hpp"

namespace kestrum {

// Its time counts from `now`.
CheckBudget budget_of(const CheckLimit& limit, Instant now);

// Puts down that a check of the job begins. Failing is no trouble: it is made all the same, with the id 0.
JobCheck begin_check(const std::string& job, CheckKind kind, History& history, const Clock& clock);
// That it has ended.
void end_check(const JobCheck& check, History& history);
// What came of it. `error`: why it could not be made, or not to its end.
void end_check(JobCheck& check, const std::vector<DriveVerdict>& verdicts, const std::optional<Error>& error,
               History& history, const Clock& clock);
// "412 MiB read, all good; 3.1 GiB are left for the next time"
std::string check_text(const JobCheck& check);

struct JobCheckOutcome {
  JobCheck entry;
  std::vector<DriveVerdict> verdicts;  // of each destination that is there
  std::optional<Error> error;
};
// Of all its sets on every destination that is there, `[check] budget` of each, with the job's effort and
// speed limits; brings its destination about as a run does. Goes on where the last one stopped. Never throws
// for what becomes of the check.
JobCheckOutcome check_job(const std::string& name, const RunContext& context);

// Does `work` with the job as it is in force, its effort and its speed limits. What it throws of what can
// happen to a check becomes an error.
std::optional<Error> with_job_checked(const std::string& name, const RunContext& context,
                                      const std::function<void(const Job&, const RunContext&)>& work);

}  // namespace kestrum
