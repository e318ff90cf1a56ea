// schedule.
#include <fmt/format.h>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "engine/agent_seat.hpp"
#include "engine/schedule.hpp"
#include "tell/due_words.hpp"
#include "tell/output_file.hpp"
#include "tell/schedule_documents.hpp"

namespace kestrum {
namespace {

std::string remark_of(const ComingRun& run) {
  std::string text;
  if (run.starts != run.due && run.behind.empty()) text = "due " + local_text(run.due);
  if (!run.kind) text += (text.empty() ? "" : "; ") + std::string("if its drive is there");
  if (!run.behind.empty()) text = "due " + local_text(run.due) + ", after " + printable(run.behind);
  return text;
}

void print_schedule(const Schedule& schedule, unsigned days, const Environment& environment) {
  using enum Table::Align;
  if (!agent_here(environment.home()))
    out("No agent runs here: nothing starts by itself. Start one with: kestrum agent\n\n");
  for (const auto& [job, wait] : schedule.waiting)
    out("{} is due and waits {}.\n", printable(job), wait_text(wait));
  for (const auto& [job, pause] : schedule.paused)
    out("{} is paused{}; let it go on with: kestrum continue {}\n", printable(job),
        pause.until ? " until " + local_text(*pause.until) : "", shell_word(printable(job)));
  if (!schedule.waiting.empty() || !schedule.paused.empty()) out("\n");
  if (schedule.runs.empty()) {
    out("Nothing runs by itself in the next {}.\n", count_text(days, "day"));
  } else {
    Table table({{"STARTS", left},
                 {"JOB", left},
                 {"KIND", left, 1},
                 {"USUALLY TAKES", right, 2},
                 {.heading = "TIME", .may_go = 3, .may_break = true},
                 {.heading = "REMARKS", .may_break = true}});
    for (const ComingRun& run : schedule.runs)
      table.row({weekday_text(run.starts) + " " + local_text(run.starts), printable(run.job),
                 std::string(run.kind ? kind_name(*run.kind) : ""),
                 run.takes ? duration_text(*run.takes) : "", run.phrase, remark_of(run)});
    print(table, "");
    if (schedule.cut) out("\nThere are more; ask for fewer days to see all of them.\n");
    out("\nTimes are {}.\n", zone_text(environment.clock().now()));
  }
  for (const std::string& job : schedule.without)
    out("{} never runs by itself: kestrum job edit {} --when-runs \"daily at 12:30\"\n", printable(job),
        shell_word(printable(job)));
}

int schedule(const Arguments& arguments, const Environment& environment) {
  const auto days = static_cast<unsigned>(arguments.number("days", 1, 3660).value_or(7));
  Progress progress(environment, true);
  const Schedule found = coming_runs(arguments.words(), days, run_context(environment, progress));
  if (std::optional<std::string> path = arguments.value("ics")) {
    const std::string text = schedule_calendar(found, environment.machine(), environment.clock().now());
    if (*path == "-") {
      print_document(text);
      return exit_done;
    }
    OutputFile file(*path);
    file.write(text);
    file.keep();
  }
  if (arguments.has("json")) {
    print_document(schedule_document(found));
  } else if (std::optional<std::string> path = arguments.value("ics")) {
    out("{} in {}\n", count_text(found.runs.size(), "run"), printable(*path));
  } else {
    print_schedule(found, days, environment);
  }
  return exit_done;
}

}  // namespace

Verb schedule_verb() {
  return {
      {"schedule",
       "[JOB...]",
       "the coming runs, and what waits",
       "Kinds as the chain on the drive would have them, where it is there; lengths as the last runs took. "
       "Runs to one drive follow each other.",
       0,
       1000,
       {{"days", "N", "so many days ahead, 1 to 3660 (usual: 7)"},
        {"ics", "FILE", "write them as an iCalendar file; - is standard output"},
        json_option},
       {"kestrum schedule", "kestrum schedule wardens --days 30", "kestrum schedule --ics backups.ics"}},
      schedule};
}

}  // namespace kestrum
