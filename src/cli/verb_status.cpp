// status and history.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "engine/point_difference.hpp"
#include "tell/documents.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

std::string age_text(const std::optional<Instant>& newest, Instant now) {
  if (!newest) return "none";
  constexpr std::int64_t trifling = 120;
  if (newest->seconds > now.seconds + trifling) return "ahead: " + day_text(*newest);
  std::int64_t seconds = std::chrono::duration_cast<std::chrono::seconds>(between(*newest, now)).count();
  auto minutes = static_cast<std::uint64_t>(std::max<std::int64_t>(seconds, 0)) / 60;
  if (minutes < 2) return "just now";
  if (minutes < 120) return std::to_string(minutes) + " min ago";
  if (minutes < 48 * 60) return std::to_string(minutes / 60) + " h ago";
  return std::to_string(minutes / (24 * 60)) + " days ago";
}

std::string last_run_text(const JobStatus& status) {
  return status.last ? std::string(result_text(status.last->result)) + ", " + local_text(status.last->started)
                     : "";
}

std::string job_name(const JobStatus& status) {
  return (status.machine.empty() ? "" : printable(status.machine) + ": ") + printable(status.job);
}

// A job's row, and one more for each further drive.
void add_rows(Table& table, const JobStatus& status, Instant now) {
  std::string name = job_name(status);
  if (status.disabled) name += " (disabled)";
  bool several = status.drives.size() > 1;
  if (status.drives.empty() || several)
    table.row({name, age_text(status.newest_good, now), last_run_text(status), "", ""});
  for (const DriveStatus& drive : status.drives) {
    std::string where = printable(drive.named) + (drive.root.empty() ? " (not there)" : "");
    std::string free = drive.space ? size_text(drive.space->free) : "";
    table.row({several ? "" : name, age_text(drive.newest_good, now), several ? "" : last_run_text(status),
               where, free});
  }
}

// The table, and below it what needs a look, job by job, worst first.
void print_status(const std::vector<JobStatus>& jobs, Instant now) {
  using enum Table::Align;
  Table table({{"JOB", left},
               {"GOOD POINT", left},
               {.heading = "LAST RUN", .may_break = true},
               {"DRIVE", left},
               {"FREE", right, 1}});
  for (const JobStatus& status : jobs) add_rows(table, status, now);
  print(table, "");
  for (const JobStatus& status : jobs) {
    if (status.troubles.empty()) continue;
    out("\n{} needs a look:\n", job_name(status));
    for (const JobTrouble& trouble : status.troubles) out("  {}\n", trouble_text(trouble, status));
  }
}

int status(const Arguments& arguments, const Environment& environment) {
  const std::vector<std::string>& names = arguments.words();
  bool by_path = names.size() == 1 && (DestinationAddress::parse(names[0]).names_drive() ||
                                       names[0].find('/') != std::string::npos);
  Progress progress(environment, false);
  RunContext context = run_context(environment, progress);
  const Instant now = environment.clock().now();
  std::vector<JobStatus> jobs =
      by_path ? place_status(DestinationAddress::parse(names[0]), context.open_store, now)
              : job_status(names, context);
  if (arguments.has("json")) {
    print_document(status_document(jobs, now));
  } else if (jobs.empty()) {
    out("There is no job {}.\n", by_path ? "there yet" : "yet; define one with: kestrum job define NAME");
  } else {
    print_status(jobs, now);
  }
  bool all_well =
      std::all_of(jobs.begin(), jobs.end(), [](const JobStatus& one) { return one.troubles.empty(); });
  return all_well ? exit_done : exit_problems;
}

std::string duration_of(const RunEntry& run) {
  return run.ended ? duration_text(between(run.started, *run.ended)) : "cut off, or still going";
}

// What the run made of the point before, without folders, whose times change with what is in them.
std::vector<ChangedFile> files_of(const Arguments& arguments, const Environment& environment,
                                  const RunEntry& run) {
  if (!run.sequence)
    throw Error(ErrorKind::usage, "run " + std::to_string(run.number) + " made no point",
                "see what became of it: kestrum history " + shell_word(run.job) + " --run " +
                    std::to_string(run.number));
  StopsItself stops_itself;
  for (LookSession& subject : open_subjects(arguments, environment, run.job)) {
    subject.proved_sets();
    const FoundSet* set = subject.sets().sealed(*run.sequence);
    if (set == nullptr || (run.set && set->facts().set != *run.set)) continue;
    std::vector<ChangedFile> files;
    each_change_of(subject, *run.sequence, process_control(), [&](Differs how, const Entry& entry) {
      if (entry.type != EntryType::folder) files.push_back({how, entry});
    });
    return files;
  }
  throw Error(ErrorKind::usage,
              "point " + std::to_string(*run.sequence) + " of that run is on no drive that is connected",
              "connect " + printable(run.destination) + "; a point that is gone tells nothing any more");
}

void print_files(const std::vector<ChangedFile>& files) {
  if (files.empty()) out("No file differs from the point before.\n");
  for (const ChangedFile& file : files)
    out_lines("  {:<10}  {:>10}  {}\n", change_word(file.how),
              file.entry.has_content() ? size_text(file.entry.size) : entry_type_name(file.entry.type),
              printable(file.entry.path.absolute()));
  out("\n");
}

int history_run(const Arguments& arguments, const Environment& environment, Ledger& ledger,
                const std::string& name, const std::string& number) {
  std::int64_t wanted = 0;
  auto [end, code] = std::from_chars(number.data(), number.data() + number.size(), wanted);
  if (code != std::errc() || end != number.data() + number.size())
    throw Error(ErrorKind::usage, "--run '" + printable(number) + "' is not a number",
                "see: kestrum history " + shell_word(printable(name)));
  std::optional<RunEntry> run = ledger.run(name, wanted);
  if (!run)
    throw Error(ErrorKind::usage, "the job '" + printable(name) + "' has no run " + number,
                "see: kestrum history " + shell_word(printable(name)));
  std::vector<Problem> problems = ledger.problems(run->id);
  std::optional<std::vector<ChangedFile>> files;
  if (arguments.has("files")) files = files_of(arguments, environment, *run);
  if (arguments.has("json")) {
    print_document(history_run_document(*run, problems, files ? &*files : nullptr));
    return exit_done;
  }
  if (!problems.empty()) out("{}:\n", count_text(problems.size(), "problem"));
  for (const Problem& problem : problems) out("  {}\n", problem_text(problem));
  if (!problems.empty()) out("\n");
  if (files) print_files(*files);
  for (const std::string& line : run_summary(*run)) out("{}\n", line);
  out("Log {}\n", printable(run->log_file));
  return exit_done;
}

int history(const Arguments& arguments, const Environment& environment) {
  const std::string& name = arguments.words()[0];
  std::unique_ptr<Ledger> opened = Ledger::open_or_renew(environment.home().ledger_path(),
                                                         [](const std::string& text) { err("{}\n", text); });
  Ledger& ledger = *opened;
  if (std::optional<std::string> number = arguments.value("run"))
    return history_run(arguments, environment, ledger, name, *number);
  if (arguments.has("files"))
    throw Error(ErrorKind::usage, "--files needs --run N",
                "see the runs: kestrum history " + shell_word(name));
  std::vector<RunEntry> runs = ledger.runs(name, 100);
  if (runs.empty())
    environment.home().load_job(name);  // a removed job keeps its history; an unknown one is told
  if (arguments.has("json")) {
    print_document(history_document(runs));
    return exit_done;
  }
  if (runs.empty()) {
    out("The job {} has never run. Run it with: kestrum run {}\n", printable(name),
        shell_word(printable(name)));
    return exit_done;
  }
  using enum Table::Align;
  Table table({{"RUN", right},
               {"STARTED", left},
               {"RESULT", left},
               {"POINT", right},
               {"KIND", left, 1},
               {"NEW", right},
               {"CHANGED", right},
               {"GONE", right},
               {"STORED", right, 2},
               {"TOOK", left, Table::ornament},
               {.heading = "REMARKS", .may_break = true}});
  for (const RunEntry& run : runs) {
    bool made = run.sequence.has_value();
    const SetTotals& totals = run.totals;
    std::string remark =
        run.problems > 0 ? count_text(static_cast<std::uint64_t>(run.problems), "problem") : "";
    if (!run.message.empty()) remark = run.message;
    table.row({std::to_string(run.number), local_text(run.started), std::string(result_text(run.result)),
               made ? std::to_string(*run.sequence) : "", std::string(run.kind ? kind_name(*run.kind) : ""),
               made ? grouped(totals.new_files) : "", made ? grouped(totals.changed_files) : "",
               made ? grouped(totals.gone_files) : "", made ? size_text(totals.stored_bytes) : "",
               duration_of(run), remark});
  }
  print(table, "");
  return exit_done;
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
Verb history_verb() {
  return {{"history",
           "JOB",
           "past runs",
           "",
           1,
           1,
           {{"run", "N", "one run, its problems first"},
            {"files", "", "with --run: which files were new, changed and gone"},
            {"passphrase", "SOURCE", "with --files: file:/path, or ask (usual: as the job says)"},
            json_option},
           {"kestrum history wardens", "kestrum history wardens --run 3",
            "kestrum history wardens --run 3 --files"}},
          history};
}

}  // namespace kestrum
