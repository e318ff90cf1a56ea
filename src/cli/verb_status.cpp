// status and history.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <filesystem>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

std::unique_ptr<Ledger> open_ledger(const Environment& environment) {
  return Ledger::open_or_renew(environment.home().ledger_path(),
                               [](const std::string& text) { err("{}\n", text); });
}

bool made_good_point(const RunEntry& run) {
  return run.sequence && run.exit_code != exit_code_of(ErrorKind::damage);
}

// Empty when it is not connected.
std::string where_it_is(const std::string& destination) {
  try {
    std::string root = locate_destination(destination);
    return std::filesystem::exists(root) ? root : std::string();
  } catch (const Error&) {
    return {};
  }
}

StatusLine status_of(const std::string& name, const Environment& environment, Ledger& ledger) {
  StatusLine line;
  line.job = name;
  for (const RunEntry& run : ledger.runs(name, 1000)) {
    if (!line.last) line.last = run;
    if (!made_good_point(run)) continue;
    line.newest_good = run.started;
    line.age =
        std::chrono::duration_cast<std::chrono::seconds>(between(run.started, environment.clock().now()));
    break;
  }
  std::optional<Instant> warn_since;
  std::string warn_after;
  try {
    Job job = environment.home().load_job(name);
    line.disabled = !job.enabled;
    if (job.warn_after) {
      warn_since = before(environment.clock().now(), *job.warn_after);
      warn_after = job.warn_after->text();
    }
    std::string root;
    for (const std::string& named : job.destinations) {
      if (line.destination.empty() || root.empty()) line.destination = named;
      if (root.empty()) root = where_it_is(named);
    }
    line.destination_there = !root.empty();
    if (line.destination_there) line.space = open_local_store(root)->space();
  } catch (const Error& error) {
    line.trouble = "its job file is wrong";
  }
  if (!line.trouble.empty()) return line;
  if (warn_since && (!line.newest_good || *line.newest_good < *warn_since)) line.overdue = true;
  if (!line.last) {
    line.trouble = "it has never run";
  } else if (!line.last->ended) {
    line.trouble = "its last run is still going, or was cut off";
  } else if (line.last->exit_code > exit_problems) {
    line.trouble = line.last->message;
  } else if (line.last->exit_code == exit_problems) {
    line.trouble = count_text(static_cast<std::uint64_t>(line.last->problems), "problem");
  }
  if (line.overdue)
    line.trouble = "no good point for " + warn_after + (line.trouble.empty() ? "" : "; " + line.trouble);
  return line;
}

std::string age_text(const StatusLine& line) {
  if (!line.age) return "none";
  auto minutes = static_cast<std::uint64_t>(std::max<std::int64_t>(line.age->count(), 0)) / 60;
  if (minutes < 2) return "just now";
  if (minutes < 120) return std::to_string(minutes) + " min ago";
  if (minutes < 48 * 60) return std::to_string(minutes / 60) + " h ago";
  return std::to_string(minutes / (24 * 60)) + " days ago";
}

// Worst first: no good point at all, then the oldest newest point.
void sort_lines(std::vector<StatusLine>& lines) {
  std::stable_sort(lines.begin(), lines.end(), [](const StatusLine& a, const StatusLine& b) {
    if (a.newest_good.has_value() != b.newest_good.has_value()) return !a.newest_good;
    return a.newest_good && *a.newest_good < *b.newest_good;
  });
}

// Every machine and job on a destination, by what its seals say; needs no key.
std::vector<StatusLine> status_at(const std::string& path, const Environment& environment) {
  std::unique_ptr<Store> store = open_local_store(path);
  if (!read_drive(*store)) {
    throw Error(ErrorKind::no_destination,
                printable(path) + " is no destination: there is no drive.json in it",
                "name a job, or the folder that holds drive.json");
  }
  std::vector<StatusLine> lines;
  for (const JobPlace& place : list_jobs_at(*store)) {
    StatusLine line;
    line.job = place.identity.machine + ": " + place.identity.name;
    line.destination = path;
    line.destination_there = true;
    line.space = store->space();
    for (const FoundSet& set : read_sets(*store, place.folder, place.identity.job)) {
      if (!set.findings.empty()) line.trouble = set.findings[0];
      if (!set.sealed()) continue;
      line.newest_good = set.seal->core.facts.started;
      line.age = std::chrono::duration_cast<std::chrono::seconds>(
          between(*line.newest_good, environment.clock().now()));
    }
    if (!line.newest_good && line.trouble.empty()) line.trouble = "it has no point yet";
    lines.push_back(std::move(line));
  }
  return lines;
}

std::string status_page(const std::vector<StatusLine>& lines) {
  using enum Table::Align;
  Table table({{"JOB", left},
               {"NEWEST GOOD POINT", left},
               {"LAST RUN", left},
               {"DRIVE", left},
               {"FREE", right},
               {"", left}});
  for (const StatusLine& line : lines) {
    std::string last = line.last ? line.last->result + ", " + local_text(line.last->started) : "";
    table.row({printable(line.job), age_text(line), last,
               printable(line.destination) + (line.destination_there ? "" : " (not there)"),
               line.space ? size_text(line.space->free) : "", line.trouble});
  }
  return table.text("");
}

int status(const Arguments& arguments, const Environment& environment) {
  std::vector<StatusLine> lines;
  std::vector<std::string> names = arguments.words();
  bool by_drive = names.size() == 1 && (names[0].starts_with("label:") || names[0].starts_with("uuid:"));
  bool by_path = by_drive || (names.size() == 1 && names[0].find('/') != std::string::npos);
  if (by_path) {
    lines = status_at(locate_destination(names[0]), environment);
  } else {
    for (const std::string& name : names) environment.home().load_job(name);
    if (names.empty()) names = environment.home().job_names();
    if (!names.empty()) {
      std::unique_ptr<Ledger> opened = open_ledger(environment);
      Ledger& ledger = *opened;
      for (const std::string& name : names) lines.push_back(status_of(name, environment, ledger));
    }
  }
  sort_lines(lines);
  if (arguments.has("json")) {
    out("{}", status_document(lines));
  } else if (lines.empty()) {
    out("There is no job {}.\n", by_path ? "there yet" : "yet; define one with: kestrum job define NAME");
  } else {
    out("{}", status_page(lines));
  }
  bool all_well =
      std::all_of(lines.begin(), lines.end(), [](const StatusLine& line) { return line.trouble.empty(); });
  return all_well ? exit_done : exit_problems;
}

std::string duration_of(const RunEntry& run) {
  return run.ended ? duration_text(between(run.started, *run.ended)) : "cut off, or still going";
}

int history_run(const Arguments& arguments, Ledger& ledger, const std::string& name,
                const std::string& number) {
  std::int64_t wanted = 0;
  auto [end, code] = std::from_chars(number.data(), number.data() + number.size(), wanted);
  if (code != std::errc() || end != number.data() + number.size())
    throw Error(ErrorKind::usage, "--run '" + printable(number) + "' is not a number",
                "see: kestrum history " + name);
  std::optional<RunEntry> run = ledger.run(name, wanted);
  if (!run)
    throw Error(ErrorKind::usage, "the job '" + printable(name) + "' has no run " + number,
                "see: kestrum history " + name);
  std::vector<Problem> problems = ledger.problems(run->id);
  if (arguments.has("json")) {
    out("{}", history_run_document(*run, problems));
    return exit_done;
  }
  if (!problems.empty()) out("{}:\n", count_text(problems.size(), "problem"));
  for (const Problem& problem : problems) out("  {}\n", problem_text(problem));
  if (!problems.empty()) out("\n");
  for (const std::string& line : run_summary(*run)) out("{}\n", line);
  out("Log {}\n", printable(run->log_file));
  return exit_done;
}

int history(const Arguments& arguments, const Environment& environment) {
  const std::string& name = arguments.words()[0];
  std::unique_ptr<Ledger> opened = open_ledger(environment);
  Ledger& ledger = *opened;
  if (std::optional<std::string> number = arguments.value("run"))
    return history_run(arguments, ledger, name, *number);
  std::vector<RunEntry> runs = ledger.runs(name, 100);
  if (runs.empty())
    environment.home().load_job(name);  // a removed job keeps its history; an unknown one is told
  if (arguments.has("json")) {
    out("{}", history_document(runs));
    return exit_done;
  }
  if (runs.empty()) {
    out("The job {} has never run. Run it with: kestrum run {}\n", printable(name), printable(name));
    return exit_done;
  }
  using enum Table::Align;
  Table table({{"RUN", right},
               {"STARTED", left},
               {"RESULT", left},
               {"POINT", right},
               {"KIND", left},
               {"NEW", right},
               {"CHANGED", right},
               {"GONE", right},
               {"STORED", right},
               {"TOOK", left},
               {"", left}});
  for (const RunEntry& run : runs) {
    bool made = run.sequence.has_value();
    const SetTotals& totals = run.totals;
    std::string remark =
        run.problems > 0 ? count_text(static_cast<std::uint64_t>(run.problems), "problem") : "";
    if (!run.message.empty()) remark = run.message;
    table.row({std::to_string(run.number), local_text(run.started), run.result,
               made ? std::to_string(*run.sequence) : "", run.kind, made ? grouped(totals.new_files) : "",
               made ? grouped(totals.changed_files) : "", made ? grouped(totals.gone_files) : "",
               made ? size_text(totals.stored_bytes) : "", duration_of(run), remark});
  }
  out("{}", table.text(""));
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
           {{"run", "N", "one run, its problems first"}, json_option},
           {"kestrum history wardens", "kestrum history wardens --run 3"}},
          history};
}

}  // namespace kestrum
