// keep and drop.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/asker.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "engine/point_standing.hpp"
#include "plan/plan_words.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

const OptionSpec no_longer_option{"no-longer", "", "take it back: the point is left to the keep rules again"};

std::string where_text(const PointSaid& point) {
  return "point " + point_text(point.facts) + " in " + printable(point.root);
}

std::string capital(std::string text) {
  text[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(text[0])));
  return text;
}

int list_said(const std::string& job, const RunContext& context, bool json) {
  std::vector<PointSaid> said = points_said(job, context);
  if (json) {
    print_document(said_document(job, said));
    return exit_done;
  }
  if (said.empty()) {
    out("No point of '{}' is kept by name. To keep one: kestrum keep {} POINT --because TEXT\n",
        printable(job), printable(job));
    return exit_done;
  }
  using enum Table::Align;
  Table table({{"DRIVE", left}, {"POINT", right}, {"MADE", left}, {"SINCE", left}, {"", left}});
  for (const PointSaid& one : said) {
    const SetFacts& facts = one.facts;
    table.row({printable(one.drive), std::to_string(facts.sequence), local_text(facts.started),
               local_text(facts.standing.since),
               standing_text(facts.standing) + (one.proved ? "" : " (nobody proved that)")});
  }
  print(table);
  return exit_done;
}

void print_kept(const KeptOutcome& outcome, const std::string& job) {
  const Standing& standing = outcome.now.facts.standing;
  std::string where = capital(where_text(outcome.now));
  if (standing.is == Standing::Is::by_rules)
    return out("{} {} left to the keep rules.\n", where, outcome.changed ? "is" : "was and is");
  out("{} {} {}. No rule and no limit takes it off the drive.\n", where,
      outcome.changed ? "is" : "was and is", standing_text(standing));
  if (!is_good(outcome.now.health))
    out("It is {}: see kestrum verify {}\n", health_text(outcome.now.health), shell_word(printable(job)));
}

std::string because_of(const Arguments& arguments) {
  return arguments.value("because").value_or("");
}

void refuse_both(const Arguments& arguments) {
  if (arguments.has("because") && arguments.has("no-longer"))
    throw Error(ErrorKind::usage, "--because and --no-longer do not go together", "leave one of them out");
}

int keep(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  refuse_both(arguments);
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  RunContext context = run_context(environment, progress);
  context.break_lock = arguments.has("break-lock");
  if (arguments.words().size() == 1) {
    if (arguments.has("because") || arguments.has("no-longer"))
      throw Error(ErrorKind::usage, "which point?",
                  "name it: kestrum keep " + shell_word(printable(job)) + " POINT ...");
    return list_said(job, context, arguments.has("json"));
  }
  const std::string& point = arguments.words()[1];
  KeptOutcome outcome = arguments.has("no-longer") ? leave_point_to_rules(job, point, context)
                                                   : keep_point(job, point, because_of(arguments), context);
  progress.finish();
  if (arguments.has("json")) {
    print_document(kept_document(job, outcome));
  } else {
    print_kept(outcome, job);
  }
  return exit_done;
}

// Where the content that other points need goes, or what keeps it.
std::string becomes_text(const DropOutlook& look) {
  switch (look.fate.fate) {
    case Fate::goes:
      return "nothing else needs it: it is removed, which frees " + size_text(look.fate.bytes);
    case Fate::folds:
      return "what other points need of it moves into point " + std::to_string(look.fate.into) +
             "; the rest goes";
    case Fate::stays:
      return look.why_stays + ": it is no point any more, and its room comes free once that is gone";
  }
  return {};
}

void print_outlook(const DropOutlook& look) {
  out("{}: {}.\n", capital(where_text(look.point)), becomes_text(look));
  const Standing& standing = look.point.facts.standing;
  if (standing.is != Standing::Is::by_rules) out("  It is {}.\n", standing_text(standing));
  if (!look.wanted_by.empty()) out("  The keep rules want it: {}.\n", look.wanted_by);
  out("  {} would be left{}.\n", count_text(look.good_left, "good point"),
      look.good_left < look.floor ? ", fewer than [keep] at-least = " + count_text(look.floor, "point") : "");
}

void print_dropped(const DropOutcome& outcome, const std::string& job) {
  const Sequence point = outcome.before.point.facts.sequence;
  if (outcome.gone)
    return out("Point {} is gone, {} freed; every other point is as it was.\n", point,
               size_text(outcome.done.freed_bytes));
  std::string why = outcome.done.unfolded.empty() ? outcome.before.why_stays : outcome.done.unfolded;
  out("Point {} is given up, and its room comes free later: {}.\n"
      "To take that back until then: kestrum drop {} {} --no-longer\n",
      point, why, printable(job), point);
}

// It was gone already, and was missed.
int tell_gone(const std::string& job, const KnownPoint& gone, bool json) {
  if (json) {
    print_document(drop_gone_document(job, gone));
  } else {
    out("Point {} of {} was gone already; from now on nobody misses it.\n", gone.sequence,
        local_text(gone.started));
  }
  return exit_done;
}

int drop(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  const std::string& point = arguments.words()[1];
  refuse_both(arguments);
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  RunContext context = run_context(environment, progress);
  context.break_lock = arguments.has("break-lock");
  const bool json = arguments.has("json");
  if (arguments.has("no-longer")) {
    KeptOutcome outcome = leave_point_to_rules(job, point, context);
    progress.finish();
    if (json) {
      print_document(kept_document(job, outcome));
    } else {
      print_kept(outcome, job);
    }
    return exit_done;
  }
  if (!arguments.has("dry")) {
    if (const std::optional<KnownPoint> gone = drop_gone_point(job, point, context)) {
      progress.finish();
      return tell_gone(job, *gone, json);
    }
  }
  DropOutlook look = look_at_drop(job, point, context);
  progress.finish();
  if (arguments.has("dry")) {
    if (json) {
      print_document(drop_document(job, look, nullptr));
    } else {
      print_outlook(look);
    }
    return exit_done;
  }
  if (!arguments.has("yes")) {
    print_outlook(look);
    confirm(environment, "Give it up?", "A point that is given up does not come back.");
  }
  DropOutcome outcome = drop_point(job, exactly(look.point), because_of(arguments), context);
  progress.finish();
  if (json) {
    print_document(drop_document(job, outcome.before, &outcome));
  } else {
    print_dropped(outcome, job);
  }
  return exit_done;
}

}  // namespace

Verb keep_verb() {
  return {
      {"keep",
       "JOB [POINT]",
       "keep one point by name, whatever the rules and limits say",
       "It stands in the point's set and goes where the drive goes. Without POINT: which points are kept, "
       "and why.\nPOINT is a number, or a date: the newest point that is not later. tern-1:12 is point 12 "
       "on the drive tern-1.",
       1,
       2,
       {{"because", "TEXT", "why, for whoever finds it in years; everybody who has the drive can read it"},
        no_longer_option,
        break_lock_option,
        {"quiet", "", "no progress"},
        json_option},
       {"kestrum keep wardens 12 --because \"before the move to the new desk\"", "kestrum keep wardens",
        "kestrum keep wardens 12 --no-longer"}},
      keep};
}

Verb drop_verb() {
  return {
      {"drop",
       "JOB POINT",
       "give up one point, whatever the rules say",
       "Shows what that means and asks. What other points need of it stays; the last good point does too.\n"
       "POINT as in kestrum keep. Of a point that is missed, since it is gone from the drive: it may be "
       "gone.",
       2,
       2,
       {{"because", "TEXT", "why; everybody who has the drive can read it"},
        {"dry", "", "show what it means; change nothing"},
        {"yes", "", "do not ask"},
        no_longer_option,
        break_lock_option,
        {"quiet", "", "no progress"},
        json_option},
       {"kestrum drop wardens 7 --dry", "kestrum drop wardens 7 --because \"dated by a wrong clock\""}},
      drop};
}

}  // namespace kestrum
