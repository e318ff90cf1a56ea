// run.
#include <fmt/format.h>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/span.hpp"
#include "cli/countdown.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "engine/drive_wait.hpp"
#include "engine/due_round.hpp"
#include "tell/documents.hpp"
#include "tell/due_words.hpp"
#include "tell/run_log.hpp"
#include "tell/telling.hpp"

namespace kestrum {
namespace {

void print_outcome(const RunOutcome& outcome, bool colour) {
  const RunEntry& run = outcome.entry;
  const char* tint = !colour              ? ""
                     : run.exit_code == 0 ? "\033[32m"
                     : run.exit_code == 1 ? "\033[33m"
                                          : "\033[31m";
  out("{}: {}{}{}\n", printable(run.job), tint, result_text(run.result), colour ? "\033[0m" : "");
  if (run.sequence) {
    const SetTotals& totals = run.totals;
    out("  point {}, {}, {} in {}, {} in all\n", *run.sequence, run.kind ? kind_name(*run.kind) : "",
        count_text(totals.files, "file"), count_text(totals.folders, "folder"), size_text(totals.bytes));
    out("  {} new, {} changed, {} gone; read {}, stored {}\n", grouped(totals.new_files),
        grouped(totals.changed_files), grouped(totals.gone_files), size_text(totals.read_bytes),
        size_text(totals.stored_bytes));
    out("  in {}\n", printable(outcome.set_folder));
    for (const std::string& line : run.upkeep) out("  {}\n", line);
    out("  {}; took {}; {} free\n", read_back_text(run.checked),
        duration_text(between(run.started, run.ended.value_or(run.started))), size_text(outcome.free_bytes));
  }
  if (!outcome.problems.empty() && run.number != 0)
    out("  {}; see: kestrum history {} --run {}\n", count_text(outcome.problems.size(), "problem"),
        shell_word(printable(run.job)), run.number);
}

// Says which drive is wanted, on standard error.
class AskedDrive final : public DriveWaiter {
 public:
  AskedDrive(std::string job, bool terminal) : job_(std::move(job)), terminal_(terminal) {}
  void waits(const Reach& reach) override {
    drive_ = printable(reach.drive);
    err("kestrum: {}: {}\n", printable(job_), reach.trouble->what());
    err("  {}\n", terminal_ ? "plug in " + drive_ + ", and it goes on by itself; Ctrl-C gives up"
                            : "waiting for " + drive_);
  }
  void other_came(const std::string& drive) override {
    err("  {} came; that is not {}, which is still waited for\n", printable(drive), drive_);
  }

 private:
  std::string job_, drive_;
  bool terminal_;
};

// Listeners of one job's runs, made anew for each.
class PrintedRow final : public RowListener {
 public:
  PrintedRow(const Arguments& arguments, const Environment& environment)
      : arguments_(arguments), environment_(environment) {}

  const RunContext& begins(const std::string& job, std::int64_t start) override {
    job_.reset();
    job_ = std::make_unique<OneJob>(environment_, arguments_.has("quiet"), arguments_.has("list"));
    job_->context.emplace(run_context(environment_, job_->listeners));
    job_->context->same_disk = arguments_.has("same-disk");
    job_->context->meant = {arguments_.has("moved"), arguments_.has("new-drive"),
                            arguments_.has("new-passphrase"), arguments_.has("beside")};
    job_->context->break_lock = arguments_.has("break-lock");
    job_->context->start = start;
    job_->context->unattended = start != 0;
    if (start == 0) wait_for(job);
    return *job_->context;
  }

  void ends(const RunOutcome& outcome) override {
    job_->progress.finish();
    if (std::optional<std::string> trouble = job_->log.finish(outcome)) err("kestrum: {}\n", *trouble);
    if (outcome.made_good_elsewhere) {
      err("kestrum: {}: {}; the next destination is tried\n", printable(outcome.entry.job),
          outcome.error->what());
    } else if (outcome.error) {
      err("kestrum: {}: {}\n", printable(outcome.entry.job), outcome.error->what());
      if (!outcome.error->hint().empty()) err("  {}\n", outcome.error->hint());
    }
    if (arguments_.has("json") || outcome.made_good_elsewhere)
      return;  // the next destination's is what counts
    print_outcome(outcome, environment_.out_colour());
  }

 private:
  // On a terminal somebody can plug the drive in; in a script as long as it says.
  void wait_for(const std::string& name) {
    const std::optional<std::string> length = arguments_.value("wait");
    if (arguments_.has("no-wait") || (!length && !environment_.in_and_out_are_terminals())) return;
    std::optional<std::chrono::seconds> most;
    if (length) {
      const Instant now = environment_.clock().now();
      most = std::chrono::duration_cast<std::chrono::seconds>(between(now, after(now, expect_span(*length))));
    }
    AskedDrive asked(name, !length);
    try {
      wait_for_drive(environment_.home().load_job(name), *job_->context, most, asked);
    } catch (const Error&) {
      // The run tells of it.
    } catch (const Stopped&) {
      // The run ends as one that was stopped.
    }
  }
  struct OneJob {
    OneJob(const Environment& environment, bool quiet, bool all)
        : progress(environment, quiet, all), log(environment.clock()), listeners({&progress, &log}) {}
    Progress progress;
    RunLog log;
    Listeners listeners;
    std::optional<RunContext> context;
  };
  const Arguments& arguments_;
  const Environment& environment_;
  std::unique_ptr<OneJob> job_;
  StopsItself stops_itself_;
};

std::vector<std::string> names_of(const Arguments& arguments, const Environment& environment) {
  std::vector<std::string> names = arguments.words();
  if (arguments.has("all")) {
    if (!names.empty())
      throw Error(ErrorKind::usage, "--all runs every job; no name goes with it", "give names, or --all");
    names = jobs_to_run(environment.home());
    if (names.empty())
      throw Error(ErrorKind::usage, "there is no job that is enabled", "see: kestrum job list");
    return names;
  }
  if (names.empty())
    throw Error(ErrorKind::usage, "'run' needs the name of a job, or --all", "see: kestrum job list");
  // A slip in a name is found before the first of them is run.
  for (const std::string& name : names) environment.home().load_job(name);
  return names;
}

// Where an agent is there it would do the same; nothing of it changes what became of the runs.
int told(const RunRow& row, const Environment& environment) {
  Progress progress(environment, true);
  const TellDone done = tell_news(run_context(environment, progress));
  for (const TellEvent& event : done.events) {
    if (event.trouble.empty()) {
      err("mail to {}: {}\n", join(event.to, ", "), event.subject);
    } else {
      err("note: mail to {} is tried again later: {}\n", join(event.to, ", "), event.trouble);
    }
  }
  if (!done.trouble.empty()) err("note: no mail was sent: {}\n", done.trouble);
  for (const std::string& trouble : done.pages) err("note: {}\n", trouble);
  if (!done.desks.empty()) err("note: at the desks: {}\n", done.desks);
  finish_shown(row.outcomes, environment, !environment.err_is_terminal());
  return row.exit_code;
}

int run_what_is_due(const Arguments& arguments, const Environment& environment, PrintedRow& listener) {
  if (!arguments.words().empty() || arguments.has("all") || arguments.has("kind"))
    throw Error(ErrorKind::usage,
                "--due runs what is due, as the jobs say; no name, --all or --kind goes with it",
                "give names, or --due");
  Progress progress(environment, arguments.has("quiet"));
  DueRound round = run_due(run_context(environment, progress), listener);
  for (const JobCheck& check : round.checks)
    round.row.exit_code = worse_exit(round.row.exit_code, check.exit_code);
  if (arguments.has("json")) {
    print_document(runs_document(round.row.outcomes, round.checks));
    return told(round.row, environment);
  }
  for (const JobCheck& check : round.checks)
    out("{} was {}: {}\n", printable(check.job), check.kind == CheckKind::drill ? "rehearsed" : "checked",
        check_text(check));
  for (const auto& [job, wait] : round.waits) out("{} waits {}\n", printable(job), wait_text(wait));
  if (round.row.jobs == 0 && round.checks.empty() && round.waits.empty()) out("Nothing is due.\n");
  return told(round.row, environment);
}

int run(const Arguments& arguments, const Environment& environment) {
  if (arguments.has("due")) {
    PrintedRow due(arguments, environment);
    return run_what_is_due(arguments, environment, due);
  }
  std::optional<Kind> kind = wanted_kind(arguments);
  std::vector<std::string> names = names_of(arguments, environment);
  PrintedRow listener(arguments, environment);
  RunRow row = run_jobs(names, kind, listener);
  if (arguments.has("json")) {
    print_document(runs_document(row.outcomes));
  } else if (names.size() > 1) {
    out("{} of {} made their point{}\n", row.good, count_text(names.size(), "job"),
        row.jobs < names.size() ? "; " + std::to_string(names.size() - row.jobs) + " not begun" : "");
  }
  return told(row, environment);
}

}  // namespace

Verb run_verb() {
  return {
      {"run",
       "JOB...",
       "run jobs now",
       "Ctrl-C stops cleanly: earlier points stay as they are, nothing half-done is left.",
       0,
       1000,
       {{"all", "", "every job of this machine"},
        {"due", "", "what is due by the jobs' own times, one round of what the agent does"},
        kind_option,
        {"same-disk", "", "the destination may lie on the disk of the files, this time"},
        {"moved", "",
         "the sets were copied to this drive for good, or set back: the job goes on from what is there"},
        {"new-drive", "", "this is another drive than before, and the job begins anew on it"},
        {"beside", "", "another home writes to the job's folder there: begin in one of its own beside it"},
        {"new-passphrase", "",
         "the passphrase is a new one: a new chain begins with it, beside what it does not open"},
        break_lock_option,
        {"wait", "LENGTH", "wait for the drive if it is not there, at most so long: \"10 minutes\""},
        {"no-wait", "", "do not ask for the drive on a terminal either"},
        {"list", "", "show every problem, however many"},
        {"quiet", "", "no progress, problems only"},
        json_option},
       {"kestrum run wardens", "kestrum run wardens --kind full", "kestrum run --all --quiet"}},
      run};
}

}  // namespace kestrum
