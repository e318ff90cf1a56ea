// prune and fold.
#include <charconv>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "engine/prune.hpp"
#include "plan/plan_words.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

std::string fate_text(const SetFate& fate) {
  if (fate.fate == Fate::goes) return "goes";
  if (fate.fate == Fate::folds) return "folds into " + std::to_string(fate.into);
  return "stays";
}

Table plan_table(const PruneOutcome& outcome) {
  using enum Table::Align;
  Table table({{"POINT", right},
               {"MADE", left},
               {"KIND", left},
               {"STORED", right, 1},
               {"", left},
               {.heading = "WHY", .may_break = true}});
  std::optional<Id> chain;
  for (std::size_t i = 0; i < outcome.sets.size(); ++i) {
    const SetFacts& facts = outcome.sets[i].facts;
    const SetFate& fate = outcome.plan.fates[i];
    std::string kind = (chain != facts.chain ? "" : "  + ") + std::string(kind_name(facts.kind));
    chain = facts.chain;
    std::string why = fate_reason_text(outcome.plan, fate);
    if (fate.overridden) why += " (was: " + promise_text(fate.promise, outcome.plan.rules) + ")";
    table.row({std::to_string(facts.sequence), local_text(facts.started), kind,
               size_text(facts.totals.stored_bytes), fate_text(fate), why});
  }
  return table;
}

void print_prune(const PruneOutcome& outcome) {
  const KeepPlan& plan = outcome.plan;
  out("{}\n", printable(outcome.root));
  out("Rules: {}.\n\n", join(outcome.rules, "; "));
  print(plan_table(outcome));
  out("\n");
  if (plan.held != Hold::nothing) return out("Nothing goes: {}.\n", hold_text(plan.held));
  for (const BrokenPromise& broken : plan.broken) out("{}\n", broken_text(plan.rules, broken));
  if (!outcome.done) {
    std::uint64_t goes = 0, folds = 0;
    for (const SetFate& fate : plan.fates) {
      goes += fate.fate == Fate::goes ? 1 : 0;
      folds += fate.fate == Fate::folds ? 1 : 0;
    }
    if (plan.empty()) return out("Nothing would go: {} stay.\n", count_text(plan.points_left, "point"));
    if (goes > 0) out("{} would go, {} freed.\n", count_text(goes, "point"), size_text(plan.frees));
    if (folds > 0)
      out("{} would be folded into others; what that frees is known afterwards.\n",
          count_text(folds, "point"));
    out("{} would be left.\n", count_text(plan.points_left, "point"));
    return;
  }
  std::string text = upkeep_text(*outcome.done);
  text[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(text[0])));
  out("{}. {} left, {}; {} of {} free.\n", text, count_text(outcome.done->points_left, "point"),
      size_text(outcome.done->job_bytes), size_text(outcome.space.free), size_text(outcome.space.total));
  const KeepPlan& last = outcome.done->rounds.back();
  if (last.excess > 0)
    out("The limits are still overrun by {}: nothing more may go.\n", size_text(last.excess));
  if (!outcome.done->unfolded.empty()) out("Not folded: {}.\n", outcome.done->unfolded);
}

int prune(const Arguments& arguments, const Environment& environment) {
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  RunContext context = run_context(environment, progress);
  context.break_lock = arguments.has("break-lock");
  std::vector<PruneOutcome> outcomes = prune_job(arguments.words()[0], arguments.has("dry"), context);
  progress.finish();
  if (arguments.has("json")) {
    print_document(prune_document(arguments.words()[0], outcomes));
    return exit_done;
  }
  for (const PruneOutcome& outcome : outcomes) {
    if (&outcome != &outcomes.front()) out("\n");
    print_prune(outcome);
  }
  return exit_done;
}

std::optional<Sequence> point_option(const Arguments& arguments, const char* name) {
  std::optional<std::string> text = arguments.value(name);
  if (!text) return std::nullopt;
  Sequence number = 0;
  auto [end, code] = std::from_chars(text->data(), text->data() + text->size(), number);
  if (code != std::errc() || end != text->data() + text->size() || number == 0)
    throw Error(ErrorKind::usage,
                "--" + std::string(name) + " needs the number of a point, not '" + printable(*text) + "'",
                "see: kestrum points JOB");
  return number;
}

void print_fold(const FoldOutcome& outcome, bool dry) {
  out("{}\n", printable(outcome.root));
  if (outcome.batches.empty()) {
    out("  Nothing to fold: the keep rules let no point go within a chain.\n"
        "  To fold all the same, name the last point of a range: --last POINT\n");
    return;
  }
  for (const FoldPlan& plan : outcome.batches) {
    out("  points {} to {}: {} in {}, of which {} stay as they lie and {} are written again\n",
        plan.sets.front(), plan.last, size_text(plan.stored_bytes), count_text(plan.sets.size(), "set"),
        size_text(plan.kept_bytes), size_text(plan.copied_bytes));
    out("    {} up to {} for a while\n", dry ? "would need" : "needed", size_text(plan.needed_bytes()));
  }
  if (dry)
    out("  {} would go; every other one stays as it is.\n", count_text(outcome.points_gone, "point"));
  else
    out("  {} gone, the others as they were; {} of sets became {}.\n",
        count_text(outcome.points_gone, "point"), size_text(outcome.bytes_before),
        size_text(outcome.bytes_after));
}

int fold(const Arguments& arguments, const Environment& environment) {
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  RunContext context = run_context(environment, progress);
  context.break_lock = arguments.has("break-lock");
  FoldRequest request{point_option(arguments, "first"), point_option(arguments, "last"), arguments.has("dry"),
                      arguments.has("beyond-rules")};
  if (request.beyond_rules && !request.last)
    throw Error(ErrorKind::usage, "--beyond-rules needs a range", "name its last point: --last POINT");
  if (request.beyond_rules && !request.dry && !arguments.has("yes")) {
    FoldRequest look = request;
    look.dry = true;
    for (const FoldOutcome& outcome : fold_job(arguments.words()[0], look, context))
      print_fold(outcome, true);
    progress.finish();
    confirm(environment, "Fold them?", "Points that were folded away do not come back.");
  }
  std::vector<FoldOutcome> outcomes = fold_job(arguments.words()[0], request, context);
  progress.finish();
  if (arguments.has("json")) {
    print_document(fold_document(arguments.words()[0], outcomes));
  } else {
    for (const FoldOutcome& outcome : outcomes) print_fold(outcome, request.dry);
  }
  return exit_done;
}

}  // namespace

Verb prune_verb() {
  return {
      {"prune",
       "JOB",
       "carry out the job's keep rules",
       "Every run does the same at its end. What another point needs stays, and so do the last good points.",
       1,
       1,
       {{"dry", "", "show what would go, and why; remove nothing"},
        break_lock_option,
        {"quiet", "", "no progress"},
        json_option},
       {"kestrum prune wardens --dry", "kestrum prune wardens"}},
      prune};
}

Verb fold_verb() {
  return {{"fold",
           "JOB",
           "make one point of several of a chain, without reading the sources",
           "Points within the range go; everything that the others need stays. Without a range: what the "
           "keep rules "
           "let go.\nPoints that the rules want, or that are kept by name, do not go.",
           1,
           1,
           {{"first", "POINT", "first point of the range (usual: the first of the chain)"},
            {"last", "POINT", "last point of the range: it stays"},
            {"beyond-rules", "", "points may go that the keep rules want; shows which, and asks"},
            {"yes", "", "do not ask"},
            {"dry", "", "show what it would take; change nothing"},
            break_lock_option,
            {"quiet", "", "no progress"},
            json_option},
           {"kestrum fold wardens --dry", "kestrum fold wardens --last 12",
            "kestrum fold wardens --first 4 --last 12 --beyond-rules"}},
          fold};
}

}  // namespace kestrum
