// preview and run.
#include <fmt/format.h>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

const OptionSpec json_option{"json", "", "print the result as JSON"};
const OptionSpec kind_option{"kind", "KIND", "full, incremental or differential, for this time only"};

std::optional<Kind> wanted_kind(const Arguments& arguments) {
  std::optional<std::string> text = arguments.value("kind");
  if (!text) return std::nullopt;
  std::optional<Kind> kind = parse_kind(*text);
  if (kind) return kind;
  std::vector<std::string> words{"full", "incremental", "differential"};
  std::optional<std::string> near = nearest(*text, words);
  throw Error(ErrorKind::usage, "--kind '" + printable(*text) + "' is not full, incremental or differential",
              near ? "did you mean '" + *near + "'?" : "write one of them");
}

std::string program() {
  return std::string("kestrum ") + KESTRUM_VERSION;
}

void print_preview(const PreviewResult& preview) {
  out("Point {} would be {} set: {}.\n\n", preview.sequence,
      preview.kind == "incremental" ? "an incremental" : "a " + preview.kind, preview.reason);
  using enum Table::Align;
  Table sources({{"SOURCE", left}, {"FILES", right}, {"SIZE", right}});
  for (const PreviewSource& source : preview.sources)
    sources.row({printable(source.path), grouped(source.files), size_text(source.bytes)});
  out("{}\n", sources.text());
  Table table({{"", left}, {"FILES", right}, {"SIZE", right}});
  table.row({"new", grouped(preview.new_files), size_text(preview.new_bytes)});
  table.row(
      {"changed, or too new to trust", grouped(preview.changed_files), size_text(preview.changed_bytes)});
  table.row({"already held", grouped(preview.held_files), size_text(preview.held_bytes)});
  table.row({"gone since then", grouped(preview.gone_files), ""});
  out("{}\n", table.text());
  std::uint64_t copied = preview.new_bytes + preview.changed_bytes;
  out("To read: {}. Free at {}: {} of {}.\n", size_text(copied), printable(preview.destination),
      size_text(preview.free_bytes), size_text(preview.total_bytes));
  if (copied > preview.free_bytes)
    out("It may not fit: compression would have to save {}.\n", size_text(copied - preview.free_bytes));
  if (!preview.problems.empty())
    out("{} found; nothing was written.\n", count_text(preview.problems.size(), "problem"));
}

int preview(const Arguments& arguments, const Environment& environment) {
  Progress progress(environment, arguments.has("quiet"));
  RunContext context{environment.home(),   environment.clock(),   progress,
                     environment.ask(),    environment.machine(), program(),
                     environment.workers()};
  context.people = environment.people();
  PreviewResult result = preview_job(arguments.words()[0], wanted_kind(arguments), context);
  progress.finish();
  if (arguments.has("json")) {
    out("{}", preview_document(arguments.words()[0], result));
  } else {
    print_preview(result);
  }
  return result.problems.empty() ? exit_done : exit_problems;
}

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
    RunContext context{environment.home(),   environment.clock(),   listeners,
                       environment.ask(),    environment.machine(), program(),
                       environment.workers()};
    context.people = environment.people();
    context.same_disk = arguments.has("same-disk");
    RunOutcome outcome = run_job(name, kind, context);
    progress.finish();
    if (std::optional<std::string> trouble = log.finish(outcome)) err("kestrum: {}\n", *trouble);
    if (!arguments.has("json")) print_outcome(outcome, environment.out_colour());
    if (arguments.has("json") && outcome.error) err("kestrum: {}\n", outcome.error->what());
    worst = worse_exit(worst, outcome.entry.exit_code);
    bool stopped = outcome.error && outcome.error->kind() == ErrorKind::stopped;
    outcomes.push_back(std::move(outcome));
    if (stopped) break;
  }
  if (arguments.has("json")) out("{}", runs_document(outcomes));
  return worst;
}

}  // namespace

Verb preview_verb() {
  return {{"preview",
           "JOB",
           "show what a run would copy; writes nothing",
           "",
           1,
           1,
           {kind_option, {"quiet", "", "no progress"}, json_option},
           {"kestrum preview wardens", "kestrum preview wardens --kind full"}},
          preview};
}
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
