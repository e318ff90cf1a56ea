// verify.
#include <fmt/format.h>

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "cli/verify_words.hpp"
#include "engine/job_check.hpp"
#include "rules/keep_rules.hpp"
#include "tell/damage_csv.hpp"
#include "tell/damage_figure.hpp"
#include "tell/documents.hpp"
#include "tell/gnuplot.hpp"
#include "tell/output_file.hpp"

namespace kestrum {
namespace {

// How much of it all was read this time.
void print_extent(const VerifyResult& result) {
  if (result.depth == Depth::quick || result.known) return;
  std::string text = "Read and checked " + size_text(result.bytes);
  if (result.depth == Depth::sample) text += ", a sample (seed " + std::to_string(result.seed) + ")";
  if (result.went_on) text += ", going on with the check begun " + local_text(*result.went_on);
  out("{}.\n", text);
  if (!result.complete)
    out("{} of this round are left: the next check in parts goes on from here.\n",
        result.left_bytes == 0 ? "Lists of points" : size_text(result.left_bytes));
  if (result.complete && result.went_on) out("With that everything was read once.\n");
}

void print_source(const SourceTally& source, const std::string& subject) {
  out("Of the point's files {} on the disk as they were, byte for byte; {} changed since, {} gone",
      count_text(source.same, "is", "are"), count_text(source.changed, "was", "were"),
      count_text(source.gone, "is", "are"));
  if (source.unread > 0) out("; {} could not be read", grouped(source.unread));
  out(".\n");
  if (source.wrong == 0) return;
  out("\n{} other content now, at the same size and time:\n",
      count_text(source.wrong, "file has", "files have"));
  constexpr std::size_t most = 30;
  for (std::size_t i = 0; i < source.wrong_paths.size() && i < most; ++i)
    out_lines("  {}\n", printable(source.wrong_paths[i]));
  if (source.wrong > most) out("  and more; --json lists up to 1,000\n");
  out("What the point holds of them is as it was saved. What differs: kestrum compare {} FILE\n",
      shell_word(printable(subject)));
}

void print_result(const VerifyResult& result, const std::string& subject) {
  const std::string_view good = result.known ? "no damage known" : "good";
  for (const PointVerdict& verdict : result.points) {
    std::string name = verdict.facts ? point_text(*verdict.facts) : std::to_string(verdict.sequence);
    std::string count =
        verdict.affected_count > 0 ? ": " + count_text(verdict.affected_count, "file") + " affected" : "";
    std::string_view state = !verdict.unreadable.empty() ? "NOT CHECKED" : verdict.good() ? good : "DAMAGED";
    out("Point {}: {}{}\n", name, state, count);
    if (!verdict.unreadable.empty()) out("  {}\n", verdict.unreadable);
    for (const std::string& finding : verdict.findings) out("  {}\n", finding);
    for (const std::string& finding : verdict.parity) out("  its parity: {}\n", finding);
  }
  for (const std::string& finding : result.findings) out("{}\n", finding);
  if (result.points.empty()) out("There is no point to check.\n");
  print_damage(result, subject);
  print_extent(result);
  if (result.source) print_source(*result.source, subject);
  if (result.damaged() && result.depth == Depth::quick)
    out("Which files are affected: kestrum verify {} --depth all\n", shell_word(printable(subject)));
}

void refuse_with(const Arguments& arguments, const char* option, const char* needs, bool good) {
  if (arguments.has(option) && !good)
    throw Error(ErrorKind::usage, std::string("--") + option + " goes with " + needs + " only",
                "see: kestrum verify --help");
}

void read_extent(const Arguments& arguments, Instant now, VerifyRequest& request) {
  refuse_with(arguments, "budget", "--depth all and without --at",
              request.depth == Depth::all && !arguments.has("at"));
  refuse_with(arguments, "anew", "--depth all and without --at",
              request.depth == Depth::all && !arguments.has("at"));
  refuse_with(arguments, "share", "--depth sample", request.depth == Depth::sample);
  refuse_with(arguments, "seed", "--depth sample", request.depth == Depth::sample);
  if (const auto text = arguments.value("budget"))
    request.round.budget = budget_of(parse_check_limit(*text), now);
  request.round.anew = arguments.has("anew");
  for (const char* option : {"budget", "anew"})
    refuse_with(arguments, "known", (std::string("--depth all and without --") + option).c_str(),
                request.depth == Depth::all && !arguments.has(option));
  request.known = arguments.has("known");
  if (const auto text = arguments.value("share")) request.sample_percent = parse_percent(*text);
  if (const auto seed = arguments.number("seed", 0, INT64_MAX))
    request.seed = static_cast<std::uint64_t>(*seed);
}

// What could be done about the damage, as far as this machine can know it: only its own job's disk holds
// today's files, and only its job file names the other destinations.
// Returns whether everything was looked at: it takes a minute for each at most.
// Who has set a budget does not want to wait for more.
bool look_for_mending(std::vector<DriveVerdict>& verdicts, std::vector<LookSession>& subjects,
                      const VerifyRequest& request, const Arguments& arguments,
                      const Environment& environment) {
  bool all = true;
  if (request.round.budget.any()) return all;
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  const RunContext context = run_context(environment, progress);
  for (std::size_t i = 0; i < verdicts.size(); ++i) {
    const VerifyResult& result = verdicts[i].result;
    const bool any = std::any_of(result.points.begin(), result.points.end(), [](const PointVerdict& point) {
      return !point.lost.empty() || !point.parity.empty() || (point.facts && !point.findings.empty());
    });
    if (!any) continue;
    std::vector<LookSession*> others;
    for (std::size_t other = 0; other < subjects.size(); ++other) {
      if (other != i) others.push_back(&subjects[other]);
    }
    constexpr std::chrono::seconds longest(60);
    Prospects prospects = mending_prospects(subjects[i], result, others, context, longest);
    verdicts[i].mending = std::move(prospects.sets);
    all = all && prospects.complete;
  }
  progress.finish();
  return all;
}

void print_mendings(const std::vector<DriveVerdict>& verdicts, const std::string& subject, bool is_job,
                    bool all_looked_at) {
  bool any = false;
  for (const DriveVerdict& verdict : verdicts) {
    if (verdict.mending.empty()) continue;
    out("\nWhat could be mended{}:\n", verdicts.size() > 1 ? " in " + printable(verdict.drive) : "");
    for (const SetRepair& set : verdict.mending) print_mending(set, true);
    any = true;
  }
  const bool damaged = std::any_of(verdicts.begin(), verdicts.end(),
                                   [](const DriveVerdict& verdict) { return verdict.result.damaged(); });
  if (!any && damaged && is_job)
    out("\nWhat could be mended: kestrum repair {} --dry\n", shell_word(printable(subject)));
  if (!all_looked_at)
    out("That is as far as a minute goes. All of it: kestrum repair {} --dry\n",
        is_job ? shell_word(printable(subject)) : "JOB");
  if (any && is_job) out("To mend it: kestrum repair {}\n", shell_word(printable(subject)));
  if (any && !is_job) out("To mend it: kestrum repair JOB, on the machine of the job\n");
}

// A check of everything that a job has, by hand, does for one by its times.
bool does_for_times(const Arguments& arguments, const VerifyRequest& request, const Home& home) {
  return request.depth == Depth::all && !request.at && !request.known && !request.round.budget.any() &&
         home.has_job(arguments.words()[0]);
}

void write_csv(DamageCsv& damage, const std::string& path) {
  if (path == "-") return print_document(damage.text());
  OutputFile file(path);
  file.write(damage.text());
  file.keep();
}

void write_figure(const std::vector<DriveVerdict>& verdicts, const std::string& path, bool silent) {
  draw_damage(verdicts, path);
  if (!silent) out("The figure is in {}.\n", printable(path));
}

int verify_subject(const Arguments& arguments, const Environment& environment) {
  VerifyRequest request;
  if (std::optional<std::string> text = arguments.value("depth")) request.depth = *parse_depth(*text);
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  if (arguments.has("at") || subjects[0].named_set()) {
    DrivePoint chosen = choose_drive(subjects, arguments.value("at"), environment.clock().now());
    request.at = chosen.wish;
    LookSession only = std::move(subjects[chosen.session]);
    subjects.clear();
    subjects.push_back(std::move(only));
  }
  History history =
      History::open(environment.home(), [](const std::string& text) { err("note: {}\n", text); });
  request.workers = environment.workers();
  request.machine = environment.machine();
  read_extent(arguments, environment.clock().now(), request);
  const std::optional<std::string> csv = arguments.value("csv"), figure = arguments.value("figure");
  if (figure) check_figure_name(*figure);
  DamageCsv damage_csv;
  if (csv) request.affected = &damage_csv;
  const bool silent = arguments.has("json") || csv == "-";
  std::vector<DriveVerdict> verdicts;
  std::optional<JobCheck> check;
  if (does_for_times(arguments, request, environment.home()))
    check = begin_check(arguments.words()[0], CheckKind::check, history, environment.clock());
  for (LookSession& subject : subjects) {
    Progress progress(environment, arguments.has("quiet"));
    StopsItself stops_itself;
    damage_csv.destination(subject.root());
    verdicts.push_back({subject.root(), verify(subject, request, environment.clock(), &history, progress,
                                               process_control())});
    progress.finish();
    if (silent) continue;
    if (subjects.size() > 1)
      out("{}{}\n", &subject == subjects.data() ? "" : "\n", printable(subject.root()));
    print_result(verdicts.back().result, arguments.words()[0]);
  }
  if (check) end_check(*check, verdicts, {}, history, environment.clock());
  const bool is_job = environment.home().has_job(arguments.words()[0]);
  const bool all_looked_at = look_for_mending(verdicts, subjects, request, arguments, environment);
  if (!silent) print_mendings(verdicts, arguments.words()[0], is_job, all_looked_at);
  if (csv) write_csv(damage_csv, *csv);
  if (figure) write_figure(verdicts, *figure, silent);
  if (history.trouble()) err("note: what was found is not remembered: {}\n", history.trouble()->what());
  if (arguments.has("json") && csv != "-") print_document(verify_document(verdicts));
  const int code = exit_code_of(verdicts);
  if (code == exit_code_of(ErrorKind::key))
    err("kestrum: the passphrase at hand does not open every point\n"
        "  check those with the one that they were made with: --passphrase file:PATH\n");
  if (code == exit_code_of(ErrorKind::failed))
    err("kestrum: not everything could be read: that is no damage yet\n"
        "  see to the drive and its cable, and check again\n");
  return code;
}

}  // namespace

Verb verify_verb() {
  return {
      {"verify",
       "SUBJECT",
       "read archive sets back and check them",
       std::string(
           "quick: seals, sizes, and the marks of every frame. sample: a part of the content, what was read "
           "longest ago. all: every byte, and what any damage means for which file. source: all that one "
           "point "
           "needs, and its files compared with those that are on the disk now.\n"
           "A check of everything that was broken off is gone on with.\n") +
           subject_words + "\n" + when_words,
       1,
       1,
       with_subject_options(
           {{"depth",
             "DEPTH",
             "quick, sample, all or source (usual: all)",
             false,
             {"quick", "sample", "all", "source"}},
            {"budget", "LENGTH", "only so much now, a time or a size; the next goes on"},
            {"anew", "", "not where a check was broken off, but from the beginning"},
            {"share", "SHARE", "how much a sample takes (usual: 5%)"},
            {"seed", "NUMBER", "the same sample as the one that said this number"},
            {"at", "WHEN", "only this point and what it needs"},
            {"known", "", "nothing is read but lists: what earlier checks have found"},
            {"csv", "FILE", "every affected file as comma-separated values; - is standard output"},
            {"figure", "FILE", "draw where the sets do not read, into a .png or .svg file"},
            {"quiet", "", "no progress"}}),
       {"kestrum verify wardens", "kestrum verify /media/tern-1 --job wardens --depth quick",
        "kestrum verify wardens --budget \"30 minutes\"", "kestrum verify wardens --known --csv affected.csv",
        "kestrum verify wardens --depth source"}},
      verify_subject};
}

}  // namespace kestrum
