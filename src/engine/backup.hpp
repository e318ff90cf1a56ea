// Running jobs: each from the first look at its destination to the entry in the ledger.
#pragma once

#include "base/error.hpp"
#include "engine/run_context.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

struct RunOutcome {
  RunEntry entry;
  std::vector<Problem> problems;
  std::optional<Error> error;    // why it failed, was stopped, or what the check found
  std::string set_folder;        // of the new point, on this machine
  std::uint64_t free_bytes = 0;  // on the destination afterwards
  // The run was made up for elsewhere: this drive was full, and the next one took the set.
  bool made_good_elsewhere = false;
};

using OnOutcome = std::function<void(const RunOutcome&)>;

// One outcome for each destination that was written to or tried. Never throws for what went wrong with a run:
// that is the outcome, and stands in the ledger. Throws only when the job does not exist or its file is
// wrong. `done` is told of each when it is there.
std::vector<RunOutcome> run_job(const std::string& name, std::optional<Kind> kind, const RunContext& context,
                                const OnOutcome& done = {});

// The worst that was not made good elsewhere; nullptr when there is none at all.
const RunOutcome* outcome_that_counts(const std::vector<RunOutcome>& outcomes);

// Several jobs one after the other; a stop ends the row.
struct RunRow {
  std::vector<RunOutcome> outcomes;  // of every job at least one
  int exit_code = 0;                 // the worst of them
  std::size_t jobs = 0;              // that were run or tried
  std::size_t good = 0;              // of these: done, with problems or without
};
// One job whose file is wrong does not stop the others: it has a failed outcome like any other. `context` is
// made anew for each, so that each run has listeners of its own.
class RowListener {
 public:
  virtual ~RowListener() = default;
  // The context of the job's runs; must live until the next call.
  // `start`: RunContext::start.
  virtual const RunContext& begins(const std::string& job, std::int64_t start) = 0;
  virtual void ends(const RunOutcome& outcome) = 0;
};
RunRow run_jobs(const std::vector<std::string>& names, std::optional<Kind> kind, RowListener& listener);

// One more in the row. False: it was stopped, and nothing follows.
bool run_in_row(RunRow& row, const std::string& name, std::optional<Kind> kind, RowListener& listener,
                std::int64_t start = 0);

// The enabled jobs of this home, and those whose file does not read: whether they are enabled cannot be told.
std::vector<std::string> jobs_to_run(const Home& home);

}  // namespace kestrum
