#include "engine/backup.hpp"

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "engine/around.hpp"
#include "engine/attachment.hpp"
#include "engine/destination.hpp"
#include "engine/due_desk.hpp"
#include "engine/effort.hpp"
#include "engine/gentle_context.hpp"
#include "engine/job_in_force.hpp"
#include "engine/job_run.hpp"
#include "engine/problem_list.hpp"
#include "engine/steering.hpp"
#include "engine/system_bus.hpp"

namespace kestrum {
namespace {

bool is_kind(const RunOutcome& outcome, ErrorKind kind) {
  return outcome.error && outcome.error->kind() == kind;
}

// Nothing can be written to.
DestinationChoice failed_choice(const Job& job, const Error& error) {
  DestinationChoice choice;
  choice.use = {job.destinations.at(0)};
  choice.trouble = error;
  return choice;
}

DestinationChoice choose(const Job& job, const RunContext& context) {
  std::optional<JobState> state;
  try {
    state = context.home.load_state(job.name);
  } catch (const Error&) {
    // The run itself tells of it.
  }
  try {
    return choose_destinations(job, state, context.machine, context.open_store, context.meant);
  } catch (const Error& error) {
    return failed_choice(job, error);
  }
}

// Why the job's destination could not be brought about.
std::optional<Error> attach(const Job& job, const RunContext& context,
                            std::unique_ptr<Attachment>& attachment) {
  try {
    attachment = std::make_unique<Attachment>(job, context);
  } catch (const Error& error) {
    return error;
  } catch (const Stopped&) {
    return stopped_error();
  }
  return std::nullopt;
}

// What goes wrong after a run is a problem of the one that was the last.
void add_late(const std::vector<Problem>& problems, RunOutcome& outcome, const RunContext& context) {
  if (problems.empty()) return;
  History history = History::open(context);
  for (const Problem& problem : problems) {
    add_problem(outcome.problems, context.observer, problem);
    history.add_problem(outcome.entry, problem);
    ++outcome.entry.problems;
    outcome.entry.exit_code = std::max(outcome.entry.exit_code, exit_problems);
    if (outcome.entry.result == RunResult::done) outcome.entry.result = RunResult::done_with_problems;
  }
}

struct Attempt {
  std::string named;
  bool spare_promises = false;
};

// Where drives are filled one after the other, promises are broken only once all are full: first on the one
// with the oldest points, the next in the row.
std::vector<Attempt> attempts_of(const DestinationChoice& choice) {
  std::vector<Attempt> attempts;
  const bool spare = choice.one_after_the_other && choice.use.size() > 1;
  for (const std::string& named : choice.use) attempts.push_back({named, spare});
  for (std::size_t i = 1; spare && i <= choice.use.size(); ++i)
    attempts.push_back({choice.use[i % choice.use.size()], false});
  return attempts;
}

// A job that could not even be begun.
RunOutcome not_begun(const std::string& name, const Error& error, const RunContext& context) {
  RunOutcome outcome;
  outcome.entry.job = name;
  outcome.entry.started = outcome.entry.ended.emplace(context.clock.now());
  outcome.entry.result = RunResult::failed;
  outcome.entry.exit_code = exit_code_of(error.kind());
  outcome.entry.message = error.what();
  outcome.error = error;
  return outcome;
}

// Where nobody is there the last good form of a job whose file does not read.
Job job_to_run(const std::string& name, const RunContext& context, std::vector<Problem>& known) {
  if (!context.unattended) {
    Job job = context.home.load_job(name);
    remember_good_form(context.home, job);
    count_times(context.home, job, context.clock.now());
    return job;
  }
  std::optional<Error> trouble;
  std::optional<JobInForce> in_force = job_in_force(context.home, name, &trouble);
  if (!in_force) throw *trouble;
  if (in_force->trouble)
    known.push_back({context.home.job_path(name), "read",
                     std::string(in_force->trouble->what()) + "; its last good form was run"});
  return in_force->job;
}

// What became of the moments that waited for this run.
void tell_who_waited(const std::vector<RunOutcome>& outcomes, const RunContext& context) {
  History history = History::open(context);
  if (history.ledger() == nullptr) return;
  try {
    settle_due(*history.ledger(), outcomes, context.control.stopped_for_good());
  } catch (const Error& error) {
    context.observer.note("what was due cannot be kept: " + std::string(error.what()));
  }
}

std::vector<RunOutcome> run_known_job(const Job& job, std::vector<Problem> known, std::optional<Kind> kind,
                                      const RunContext& context, const OnOutcome& done) {
  const SteeredRun steered(context.home, job.name, context.clock, context.control, context.observer,
                           context.unattended);
  std::unique_ptr<Attachment> attachment;
  const std::optional<Error> not_attached = attach(job, context, attachment);
  Around around(job, context);
  DestinationChoice choice = choose(job, context);
  if (not_attached) choice = failed_choice(job, *not_attached);
  std::shared_ptr<KeyRing> keys = job_keys(job, context.ask);
  for (const std::string& note : choice.passed_over) context.observer.note(note);
  std::vector<RunOutcome> outcomes;
  const std::vector<Attempt> attempts = attempts_of(choice);
  for (const Attempt& attempt : attempts) {
    bool last = &attempt == &attempts.back();
    JobRun run(job, attempt.named, choice.trouble, kind, context, keys, around, attempt.spare_promises);
    if (outcomes.empty()) {
      known.insert(known.end(), choice.absent.begin(), choice.absent.end());
      run.begin_with(known);
      run.take_over(context.start);
    }
    outcomes.push_back(run.run());
    bool goes_on = is_kind(outcomes.back(), ErrorKind::full) && !choice.each && !last;
    outcomes.back().made_good_elsewhere = goes_on;
    const bool ends = last || is_kind(outcomes.back(), ErrorKind::stopped) || (!choice.each && !goes_on);
    if (ends) {
      add_late(around.after(*outcome_that_counts(outcomes)), outcomes.back(), context);
      if (attachment) add_late(attachment->detach(), outcomes.back(), context);
      attachment.reset();
    }
    if (done) done(outcomes.back());
    if (ends) break;
    if (goes_on)
      context.observer.note(printable(attempt.named) + " is full; going on to the next destination");
  }
  if (context.start != 0) tell_who_waited(outcomes, context);
  return outcomes;
}

}  // namespace

std::vector<RunOutcome> run_job(const std::string& name, std::optional<Kind> kind, const RunContext& context,
                                const OnOutcome& done) {
  std::vector<Problem> known;
  Job job = job_to_run(name, context, known);
  job.same_disk = job.same_disk || context.same_disk;
  const GentleContext gentle(job, context);
  std::string refused;
  const FileHandle awake = hold_off_standby("saving files: " + printable(job.name), refused);
  if (!refused.empty()) context.observer.note("the machine may go to standby meanwhile: " + refused);
  std::vector<RunOutcome> outcomes;
  with_effort(job.effort,
              [&] { outcomes = run_known_job(job, std::move(known), kind, gentle.context(), done); });
  return outcomes;
}

const RunOutcome* outcome_that_counts(const std::vector<RunOutcome>& outcomes) {
  const RunOutcome* counts = nullptr;
  for (const RunOutcome& outcome : outcomes) {
    if (outcome.made_good_elsewhere) continue;
    if (counts == nullptr ||
        worse_exit(counts->entry.exit_code, outcome.entry.exit_code) != counts->entry.exit_code)
      counts = &outcome;
  }
  return counts != nullptr || outcomes.empty() ? counts : &outcomes.back();
}

bool run_in_row(RunRow& row, const std::string& name, std::optional<Kind> kind, RowListener& listener,
                std::int64_t start) {
  const RunContext& context = listener.begins(name, start);
  std::vector<RunOutcome> of_job;
  try {
    of_job = run_job(name, kind, context, [&](const RunOutcome& outcome) { listener.ends(outcome); });
  } catch (const Error& error) {
    of_job.push_back(not_begun(name, error, context));
    listener.ends(of_job.back());
  }
  ++row.jobs;
  bool good = true, stopped = false;
  for (RunOutcome& outcome : of_job) {
    stopped = stopped || is_kind(outcome, ErrorKind::stopped);
    if (!outcome.made_good_elsewhere) {
      row.exit_code = worse_exit(row.exit_code, outcome.entry.exit_code);
      good = good && outcome.entry.exit_code <= exit_problems;
    }
    row.outcomes.push_back(std::move(outcome));
  }
  row.good += good ? 1 : 0;
  return !stopped;
}

RunRow run_jobs(const std::vector<std::string>& names, std::optional<Kind> kind, RowListener& listener) {
  RunRow row;
  for (const std::string& name : names) {
    if (!run_in_row(row, name, kind, listener)) break;
  }
  return row;
}

std::vector<std::string> jobs_to_run(const Home& home) {
  std::vector<std::string> names;
  for (const std::string& name : home.job_names()) {
    try {
      if (home.load_job(name).enabled) names.push_back(name);
    } catch (const Error&) {
      names.push_back(name);
    }
  }
  return names;
}

}  // namespace kestrum
