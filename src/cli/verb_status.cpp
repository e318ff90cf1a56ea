// status.
#include <fmt/format.h>

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "engine/agent_seat.hpp"
#include "engine/outbox.hpp"
#include "tell/age_words.hpp"
#include "tell/documents.hpp"
#include "tell/status_words.hpp"

namespace kestrum {
namespace {

std::string last_run_text(const JobStatus& status) {
  if (status.times.going) return "run " + std::to_string(status.times.going->number) + " goes on";
  return status.last ? std::string(result_text(status.last->result)) + ", " + local_text(status.last->started)
                     : "";
}

// When the job runs next by itself, or why it does not.
std::string next_run_text(const JobStatus& status) {
  const DueLook& times = status.times;
  if (times.pause) return times.pause->until ? "paused until " + local_text(*times.pause->until) : "paused";
  if (times.wait && times.wait->reason == DueReason::drive) return "when the drive comes";
  if (times.wait && times.wait->look_again) return local_text(*times.wait->look_again);
  if (times.wait && !times.going) return "due now";
  if (!times.next) return "";
  return (times.on_change && times.unwatched.empty() ? "on change, at the latest " : "") +
         local_text(*times.next);
}

// When somebody last proved that a way in opens the drive.
std::string tried_text(const JobStatus& status, const DriveStatus& drive, Instant now) {
  if (!status.encrypted) return "";
  return drive.way_tried ? age_text(drive.way_tried, now) : "never";
}

// A job's row, and one more for each further drive.
void add_rows(Table& table, const JobStatus& status, Instant now) {
  std::string name = job_title(status);
  if (status.disabled) name += " (disabled)";
  bool several = status.drives.size() > 1;
  if (status.drives.empty() || several)
    table.row(
        {name, age_text(status.newest_good, now), last_run_text(status), next_run_text(status), "", "", ""});
  for (const DriveStatus& drive : status.drives) {
    std::string where = printable(drive.named) + (drive.root.empty() ? " (not there)" : "");
    std::string free = drive.space ? size_text(drive.space->free) : "";
    table.row({several ? "" : name, age_text(drive.newest_good, now), several ? "" : last_run_text(status),
               several ? "" : next_run_text(status), where, free, tried_text(status, drive, now)});
  }
}

// The table, and below it what needs a look, job by job, worst first.
void print_status(const std::vector<JobStatus>& jobs, std::optional<bool> agent, Instant now) {
  auto has_times = [](const JobStatus& one) { return one.times.next || one.times.wait; };
  if (agent == false && std::any_of(jobs.begin(), jobs.end(), has_times))
    out("No agent runs here: nothing starts by itself. Start one with: kestrum agent\n\n");
  using enum Table::Align;
  Table table({{"JOB", left},
               {"GOOD POINT", left},
               {.heading = "LAST RUN", .may_break = true},
               {.heading = "NEXT RUN", .may_break = true},
               {"DRIVE", left},
               {"FREE", right, 1},
               {.heading = "KEY TRIED", .may_break = true}});
  for (const JobStatus& status : jobs) add_rows(table, status, now);
  print(table, "");
  for (const JobStatus& status : jobs) {
    if (!status.times.unwatched.empty())
      out("\n{}: {}\n", job_title(status), printable(status.times.unwatched));
  }
  for (const JobStatus& status : jobs) {
    if (const std::string checks = checks_sentence(status); !checks.empty())
      out("\n{}: {}\n", job_title(status), checks);
  }
  for (const JobStatus& status : jobs) {
    if (status.troubles.empty()) continue;
    out("\n{} needs a look:\n", job_title(status));
    for (const JobTrouble& trouble : status.troubles) {
      out("  {}\n", trouble_text(trouble, status));
      if (!trouble.advice.empty()) out("    {}\n", join(split(trouble.advice, '\n'), "\n  "));
    }
  }
}

// What keeps people from being told.
void print_mail_trouble(const Home& home, const OutboxLook& mail) {
  if (!mail.trouble.empty())
    out("\n{} to {} since {} could not be sent: {}\n", count_text(mail.waiting, "mail"), join(mail.to, ", "),
        local_text(mail.since), mail.trouble);
  try {
    home.load_settings();
  } catch (const Error& error) {
    out("\nThe settings do not read, and no mail goes out: {}\n  {}\n", error.what(), error.hint());
  }
}

}  // namespace

bool names_a_place(const std::vector<std::string>& words) {
  return words.size() == 1 &&
         (DestinationAddress::parse(words[0]).names_drive() || words[0].find('/') != std::string::npos);
}

namespace {

int status(const Arguments& arguments, const Environment& environment) {
  const std::vector<std::string>& names = arguments.words();
  const bool by_path = names_a_place(names);
  Progress progress(environment, false);
  RunContext context = run_context(environment, progress);
  const Instant now = environment.clock().now();
  std::vector<JobStatus> jobs =
      by_path ? place_status(DestinationAddress::parse(names[0]), context.open_store, now)
              : job_status(names, context);
  std::optional<bool> agent;
  OutboxLook mail;
  if (!by_path) {
    agent = agent_here(environment.home()).has_value();
    mail = look_at_outbox(environment.home());
  }
  if (arguments.has("json")) {
    print_document(status_document(jobs, agent, mail, now));
  } else if (jobs.empty()) {
    out("There is no job {}.\n", by_path ? "there yet" : "yet; define one with: kestrum job define NAME");
  } else {
    print_status(jobs, agent, now);
    if (!by_path) print_mail_trouble(environment.home(), mail);
  }
  bool all_well =
      std::all_of(jobs.begin(), jobs.end(), [](const JobStatus& one) { return one.troubles.empty(); });
  return all_well ? exit_done : exit_problems;
}

}  // namespace

Verb status_verb() {
  return {{"status",
           "[JOB...|DIR]",
           "how old the newest good point of each job is",
           "With a folder: every machine and job on that destination, by its seals; no key is needed.",
           0,
           1000,
           {json_option},
           {"kestrum status", "kestrum status /media/tern-1/"}},
          status};
}

}  // namespace kestrum
