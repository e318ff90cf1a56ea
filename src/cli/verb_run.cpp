// run.
#include <fmt/format.h>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

void print_outcome(const RunOutcome& outcome, bool colour) {
  const RunEntry& run = outcome.entry;
  if (outcome.error) {
    err("kestrum: {}\n", outcome.error->what());
    if (!outcome.error->hint().empty()) err("  {}\n", outcome.error->hint());
  }
  const char* tint = !colour              ? ""
                     : run.exit_code == 0 ? "\033[32m"
                     : run.exit_code == 1 ? "\033[33m"
                                          : "\033[31m";
  out("{}: {}{}{}\n", printable(run.job), tint, run.result, colour ? "\033[0m" : "");
  if (run.sequence) {
    const SetTotals& totals = run.totals;
    out("  point {}, {}, {} in {}, {} in all\n", *run.sequence, run.kind, count_text(totals.files, "file"),
        count_text(totals.folders, "folder"), size_text(totals.bytes));
    out("  {} new, {} changed, {} gone; read {}, stored {}\n", grouped(totals.new_files),
        grouped(totals.changed_files), grouped(totals.gone_files), size_text(totals.read_bytes),
        size_text(totals.stored_bytes));
    out("  in {}\n", printable(outcome.set_folder));
    for (const std::string& line : run.upkeep) out("  {}\n", line);
    out("  {}; took {}; {} free\n", run.checked.empty() ? "not read back" : run.checked,
        duration_text(between(run.started, run.ended.value_or(run.started))), size_text(outcome.free_bytes));
  }
  if (!outcome.problems.empty())
    out("  {}; see: kestrum history {} --run {}\n", count_text(outcome.problems.size(), "problem"),
        printable(run.job), run.number);
}

int run(const Arguments& arguments, const Environment& environment) {
  std::optional<Kind> kind = wanted_kind(arguments);
  std::vector<std::string> names = arguments.words();
  if (arguments.has("all")) {
    if (!names.empty())
      throw Error(ErrorKind::usage, "--all runs every job; no name goes with it", "give names, or --all");
    for (const std::string& name : environment.home().job_names()) {
      if (environment.home().load_job(name).enabled) names.push_back(name);
    }
    if (names.empty())
      throw Error(ErrorKind::usage, "there is no job that is enabled", "see: kestrum job list");
  }
  if (names.empty())
    throw Error(ErrorKind::usage, "'run' needs the name of a job, or --all", "see: kestrum job list");
  for (const std::string& name : names)
    environment.home().load_job(name);  // all of them, before the first is run
  std::vector<RunOutcome> outcomes;
  int worst = exit_done;
  for (const std::string& name : names) {
    Progress progress(environment, arguments.has("quiet"));
    RunLog log(environment.clock());
    Listeners listeners({&progress, &log});
    RunContext context = run_context(environment, listeners);
    context.same_disk = arguments.has("same-disk");
    std::vector<RunOutcome> of_job = run_job(name, kind, context, [&](const RunOutcome& outcome) {
      progress.finish();
      if (std::optional<std::string> trouble = log.finish(outcome)) err("kestrum: {}\n", *trouble);
    });
    // Where one drive was full and the next took the set, that is what counts.
    bool went_on = environment.home().load_job(name).use == UseOf::next_when_full;
    bool stopped = false;
    for (RunOutcome& outcome : of_job) {
      if (!arguments.has("json")) print_outcome(outcome, environment.out_colour());
      if (arguments.has("json") && outcome.error) err("kestrum: {}\n", outcome.error->what());
      if (!went_on || &outcome == &of_job.back()) worst = worse_exit(worst, outcome.entry.exit_code);
      stopped = stopped || (outcome.error && outcome.error->kind() == ErrorKind::stopped);
      outcomes.push_back(std::move(outcome));
    }
    if (stopped) break;
  }
  if (arguments.has("json")) out("{}", runs_document(outcomes));
  return worst;
}

}  // namespace

Verb run_verb() {
  return {{"run",
           "JOB...",
           "run jobs now",
           "Ctrl-C stops cleanly: earlier points stay as they are, nothing half-done is left.",
           0,
           1000,
           {{"all", "", "every job of this machine"},
            kind_option,
            {"same-disk", "", "the destination may lie on the disk of the files, this time"},
            {"quiet", "", "no progress, problems only"},
            json_option},
           {"kestrum run wardens", "kestrum run wardens --kind full", "kestrum run --all --quiet"}},
          run};
}

}  // namespace kestrum
