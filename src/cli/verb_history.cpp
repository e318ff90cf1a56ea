// history.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <functional>
#include <map>

#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "engine/point_difference.hpp"
#include "ledger/restore_book.hpp"
#include "tell/documents.hpp"
#include "tell/due_words.hpp"
#include "tell/output_file.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

std::string duration_of(const RunEntry& run) {
  if (run.ended) return duration_text(between(run.started, *run.ended));
  const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
  return process && process->is_running() ? "still going" : "cut off";
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
    each_change_of(subject, *run.sequence, process_control(), [&](const Difference& one) {
      if (one.entry().type != EntryType::folder) files.push_back({one.how, one.entry()});
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
  if (arguments.has("log")) {
    if (arguments.has("json")) throw Error(ErrorKind::usage, "--log shows text", "leave out --json");
    out("{}", read_log(*run));
    return exit_done;
  }
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

// Moments that follow each other and became the same are one row.
std::vector<DueMade> in_short(const std::vector<DueMade>& newest_first) {
  std::vector<DueMade> rows;
  std::map<std::string, std::size_t> last;  // by job: the row
  for (const DueMade& one : newest_first) {
    auto found = last.find(one.line.job);
    DueMade* before = found != last.end() ? &rows[found->second] : nullptr;
    const bool same = before != nullptr && !before->is_of_run() && !one.is_of_run() &&
                      before->line.fate == one.line.fate && before->line.reason == one.line.reason &&
                      before->line.run == one.line.run;
    if (same) {
      before->line.first = one.line.first;
      before->line.moments += one.line.moments;
      continue;
    }
    last[one.line.job] = rows.size();
    rows.push_back(one);
  }
  return rows;
}

// What began at its time need not say so.
bool is_late(Instant due, Instant started) {
  constexpr std::int64_t trifling = 60;
  return started.seconds - due.seconds > trifling || started < due;
}

// Runs, and due moments without one of their own, newest first.
void print_history(const std::vector<RunEntry>& runs, const std::vector<DueMade>& due, bool all_jobs) {
  using enum Table::Align;
  Table table({{.heading = "JOB"},
               {"RUN", right},
               {"DUE", left},
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
  std::multimap<Instant, std::vector<std::string>, std::greater<>> rows;
  std::map<std::int64_t, Instant> due_of;
  for (const DueMade& one : due) {
    if (one.is_of_run()) due_of[one.run->id] = one.line.when;
  }
  for (const RunEntry& run : runs) {
    const bool made = run.sequence.has_value();
    const SetTotals& totals = run.totals;
    std::string remark =
        run.problems > 0 ? count_text(static_cast<std::uint64_t>(run.problems), "problem") : "";
    if (!run.message.empty()) remark = run.message;
    auto found = due_of.find(run.id);
    rows.insert(
        {run.started,
         {all_jobs ? printable(run.job) : "", std::to_string(run.number),
          found != due_of.end() && is_late(found->second, run.started) ? local_text(found->second) : "",
          local_text(run.started), std::string(result_text(run.result)),
          made ? std::to_string(*run.sequence) : "", std::string(run.kind ? kind_name(*run.kind) : ""),
          made ? grouped(totals.new_files) : "", made ? grouped(totals.changed_files) : "",
          made ? grouped(totals.gone_files) : "", made ? size_text(totals.stored_bytes) : "",
          duration_of(run), remark}});
  }
  for (const DueMade& one : in_short(due)) {
    if (one.is_of_run()) continue;
    const DueWords words = due_words(one.line, one.run);
    std::string remark = words.because;
    if (one.line.moments > 1)
      remark += "; " + count_text(one.line.moments, "time") + " since " + day_text(one.line.first);
    rows.insert({one.line.when,
                 {all_jobs ? printable(one.line.job) : "", "", local_text(one.line.when), "", words.became,
                  "", "", "", "", "", "", "", remark}});
  }
  for (const auto& [when, cells] : rows) table.row(cells);
  print(table, "");
}

int history_restores(const Arguments& arguments, Ledger& ledger, const std::string& name) {
  constexpr int most = 1000;
  const std::vector<RestoreEntry> entries = RestoreBook(ledger).entries(name, most);
  if (arguments.has("json")) {
    print_document(restores_document(entries));
    return exit_done;
  }
  if (entries.empty()) {
    out("Nothing was restored on this machine yet.\n");
    return exit_done;
  }
  using enum Table::Align;
  Table table({{"STARTED", left},
               {.heading = "JOB"},
               {"POINT", left},
               {"FILES", right},
               {"SIZE", right},
               {"LEFT ALONE", right},
               {"RESULT", left},
               {"TO", left}});
  for (const RestoreEntry& one : entries) {
    const std::string point =
        printable(one.drive) + ":" + std::to_string(one.point) + " of " + day_text(one.point_started);
    table.row({local_text(one.started), name.empty() ? printable(one.job) : "", point, grouped(one.files),
               size_text(one.bytes), one.left_alone > 0 ? grouped(one.left_alone) : "",
               std::string(result_text(one.result)) +
                   (one.problems > 0 ? " (" + count_text(one.problems, "problem") + ")" : ""),
               one.where == "/"   ? "where they were"
               : one.where == "-" ? "standard output"
                                  : printable(one.where)});
  }
  print(table, "");
  return exit_done;
}

int history(const Arguments& arguments, const Environment& environment) {
  const bool all_jobs = arguments.words().empty();
  const std::string name = all_jobs ? "" : arguments.words()[0];
  std::unique_ptr<Ledger> opened = Ledger::open_or_renew(environment.home().ledger_path(),
                                                         [](const std::string& text) { err("{}\n", text); });
  Ledger& ledger = *opened;
  const std::optional<std::string> number = arguments.value("run");
  if (all_jobs && number)
    throw Error(ErrorKind::usage, "--run needs the job whose run it is",
                "kestrum history JOB --run " + *number);
  if (arguments.has("restores")) return history_restores(arguments, ledger, name);
  if (number) return history_run(arguments, environment, ledger, name, *number);
  for (const char* option : {"files", "log"}) {
    if (arguments.has(option))
      throw Error(ErrorKind::usage, "--" + std::string(option) + " needs --run N",
                  "see the runs: kestrum history " + shell_word(name));
  }
  constexpr int most = 100, all = 1000000;
  const int count = arguments.has("csv") ? all : most;
  std::vector<RunEntry> runs = ledger.runs(name, count);
  std::vector<DueMade> due = due_made(ledger, name, all, environment.clock().now());
  // As far back as the runs.
  if (runs.size() == most)
    std::erase_if(due, [&](const DueMade& one) { return one.line.when < runs.back().started; });
  if (runs.empty() && !all_jobs)
    environment.home().load_job(name);  // a removed job keeps its history; an unknown one is told
  if (std::optional<std::string> path = arguments.value("csv")) {
    const std::string text = history_csv(runs, due);
    if (*path == "-") {
      print_document(text);
    } else {
      OutputFile file(*path);
      file.write(text);
      file.keep();
      out("{} and {} in {}\n", count_text(runs.size(), "run"), count_text(due.size(), "due moment"),
          printable(*path));
    }
    return exit_done;
  }
  if (arguments.has("json")) {
    print_document(history_document(runs, due));
    return exit_done;
  }
  if (runs.empty() && due.empty()) {
    if (all_jobs) {
      out("No job has run yet. See: kestrum job list\n");
    } else {
      out("The job {} has never run. Run it with: kestrum run {}\n", printable(name),
          shell_word(printable(name)));
    }
    return exit_done;
  }
  print_history(runs, due, all_jobs);
  return exit_done;
}

}  // namespace

Verb history_verb() {
  return {{"history",
           "[JOB]",
           "past runs, and what became of each time that was due",
           "Without a name: of all jobs.",
           0,
           1,
           {{"run", "N", "one run, its problems first"},
            {"restores", "", "what was restored on this machine, when and to where"},
            {"csv", "FILE", "all of it as comma-separated values; - is standard output"},
            {"files", "", "with --run: which files were new, changed and gone"},
            {"log", "", "with --run: its log, as it lies in the home"},
            {"passphrase", "SOURCE", "with --files: file:/path, or ask (usual: as the job says)"},
            json_option},
           {"kestrum history", "kestrum history wardens", "kestrum history wardens --csv wardens.csv",
            "kestrum history wardens --run 3", "kestrum history wardens --run 3 --files",
            "kestrum history wardens --run 3 --log"}},
          history};
}

}  // namespace kestrum
