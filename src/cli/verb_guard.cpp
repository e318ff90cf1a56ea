// guard.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "engine/guard.hpp"
#include "tell/guard_documents.hpp"

namespace kestrum {
namespace {

void print_point(const DoubtedPoint& point) {
  const bool rejected = point.facts.guard == GuardMark::rejected;
  out("  Point {} {}\n", point_text(point.facts),
      rejected ? "was rejected: it is kept as evidence, and counts for nothing" : "is suspect:");
  if (!point.unread.empty()) out("    why cannot be read: {}\n", point.unread);
  for (const EvidenceLine& line : point.evidence) out("    {}\n", evidence_text(line));
  constexpr std::size_t most = 5;
  for (std::size_t i = 0; i < std::min(most, point.examples.size()); ++i)
    out("    {}{}\n", i == 0 ? "for instance " : "             ", printable(point.examples[i]));
}

void print_look(const std::string& job, const GuardLook& look) {
  out("{}:\n", printable(look.drive));
  for (const DoubtedPoint& point : look.points) print_point(point);
  if (look.newest_trusted)
    out("  The newest point that nobody doubts is {}. The next run builds on it.\n",
        point_text(*look.newest_trusted));
  if (look.suspect() == 0) return;
  Sequence first = 0, last = 0;
  for (const DoubtedPoint& point : look.points) {
    if (point.facts.guard != GuardMark::suspect) continue;
    if (first == 0) first = point.facts.sequence;
    last = point.facts.sequence;
  }
  const std::string command = "kestrum guard " + shell_word(printable(job));
  out("  Nothing is let go until somebody says what to make of it:\n"
      "    it was meant:      {} --trust {}:{}\n"
      "    it was not meant:  {} --reject {}:{}\n",
      command, shell_word(printable(look.drive)), last, command, shell_word(printable(look.drive)), first);
  if (look.newest_trusted)
    out("  To bring files back as they were:  kestrum restore {} PATH --at {}:{} --to FOLDER\n",
        shell_word(printable(job)), shell_word(printable(look.drive)), look.newest_trusted->sequence);
}

int show(const std::string& job, const RunContext& context, bool json) {
  const std::vector<GuardLook> looks = look_at_guard(job, context);
  std::size_t suspect = 0, doubted = 0;
  for (const GuardLook& look : looks) {
    suspect += look.suspect();
    doubted += look.points.size();
  }
  if (json) {
    print_document(guard_document(job, looks));
  } else if (doubted == 0) {
    out("No point of '{}' is suspect.\n", printable(job));
  } else {
    for (const GuardLook& look : looks) print_look(job, look);
  }
  return suspect > 0 ? exit_code_of(ErrorKind::suspect) : exit_done;
}

void print_verdict(const GuardVerdict& verdict, bool trusted, const std::string& job) {
  const bool one = verdict.points.size() == 1;
  out("{} {} in {} {}.\n", one ? "Point" : "Points", sequences_text(verdict.points), printable(verdict.drive),
      trusted ? (one ? "is trusted, and counts again" : "are trusted, and count again")
              : (one ? "is rejected: it is kept as evidence, and counts for nothing"
                     : "are rejected: they are kept as evidence, and count for nothing"));
  if (verdict.newest_trusted) out("The next run builds on point {}.\n", point_text(*verdict.newest_trusted));
  if (!trusted)
    out("Bring back what was lost, then run the job. When the evidence is not needed any more: kestrum drop "
        "{} {}:{}\n",
        shell_word(printable(job)), shell_word(printable(verdict.drive)), verdict.points.front());
  if (verdict.suspect_left > 0)
    out("{} still suspect: kestrum guard {}\n",
        count_text(verdict.suspect_left, "point there is", "points there are"), shell_word(printable(job)));
}

int guard(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  const std::optional<std::string> trust = arguments.value("trust"), reject = arguments.value("reject");
  if (trust && reject)
    throw Error(ErrorKind::usage, "--trust and --reject do not go together", "leave one of them out");
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  RunContext context = run_context(environment, progress);
  context.break_lock = arguments.has("break-lock");
  if (!trust && !reject) return show(job, context, arguments.has("json"));
  const GuardVerdict verdict = pass_verdict(job, trust ? *trust : *reject, trust.has_value(), context);
  progress.finish();
  if (arguments.has("json")) {
    print_document(verdict_document(job, verdict, trust.has_value()));
  } else {
    print_verdict(verdict, trust.has_value(), job);
  }
  return exit_done;
}

}  // namespace

Verb guard_verb() {
  return {{"guard",
           "JOB",
           "points that are suspect, why, and what to make of them",
           "A run in which suspiciously much has changed makes a point that is suspect. Until somebody has "
           "looked "
           "nothing of the job is let go, and the next runs build on the newest point that nobody doubts.\n"
           "POINT is a number; tern-1:12 is point 12 on the drive tern-1.",
           1,
           1,
           {{"trust", "POINT", "it was meant: this point counts, and those suspect ones before it"},
            {"reject", "POINT",
             "it was not meant: this point is kept as evidence and never counts, nor those suspect ones "
             "after it"},
            break_lock_option,
            {"quiet", "", "no progress"},
            json_option},
           {"kestrum guard wardens", "kestrum guard wardens --trust 14",
            "kestrum guard wardens --reject tern-1:14"}},
          guard};
}

}  // namespace kestrum
