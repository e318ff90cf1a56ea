// verify.
#include <fmt/format.h>

#include <map>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

// A file mostly is affected at several points in the same way: told once.
void print_affected(const VerifyResult& result) {
  constexpr std::size_t most = 30;
  std::map<std::pair<std::string, std::string>, std::vector<Sequence>> files;
  bool more = false;
  for (const PointVerdict& verdict : result.points) {
    for (const AffectedFile& file : verdict.affected)
      files[{file.path, file.reason}].push_back(verdict.sequence);
    more = more || verdict.affected_count > verdict.affected.size();
  }
  if (files.empty()) return;
  out("\nWhat cannot be restored as it was:\n");
  std::size_t listed = 0;
  for (const auto& [file, points] : files) {
    if (++listed > most) break;
    out_lines("  {}: {} ({} {})\n", printable(file.first), file.second,
              points.size() == 1 ? "point" : "points", sequences_text(points));
  }
  if (more || files.size() > most) out("  and more; --json lists up to 1,000 for each point\n");
  out("Everything else can be restored. The next run saves these files anew, as far as the sources still "
      "have them.\n");
}

void print_result(const VerifyResult& result, const std::string& subject) {
  for (const PointVerdict& verdict : result.points) {
    std::string name = verdict.facts ? point_text(*verdict.facts) : std::to_string(verdict.sequence);
    std::string count =
        verdict.affected_count > 0 ? ": " + count_text(verdict.affected_count, "file") + " affected" : "";
    std::string_view state = !verdict.unreadable.empty() ? "NOT CHECKED"
                             : verdict.good()            ? "good"
                                                         : "DAMAGED";
    out("Point {}: {}{}\n", name, state, count);
    if (!verdict.unreadable.empty()) out("  {}\n", verdict.unreadable);
    for (const std::string& finding : verdict.findings) out("  {}\n", finding);
  }
  for (const std::string& finding : result.findings) out("{}\n", finding);
  if (result.points.empty()) out("There is no point to check.\n");
  print_affected(result);
  if (result.depth == Depth::all) out("Read and checked {}.\n", size_text(result.bytes));
  if (result.damaged() && result.depth == Depth::quick)
    out("Which files are affected: kestrum verify {} --depth all\n", shell_word(printable(subject)));
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
  bool good = true, damaged = false, closed = false;
  std::vector<DriveVerdict> verdicts;
  for (LookSession& subject : subjects) {
    Progress progress(environment, arguments.has("quiet"));
    StopsItself stops_itself;
    verdicts.push_back({subject.root(), verify(subject, request, environment.clock(), &history, progress,
                                               process_control())});
    progress.finish();
    const VerifyResult& result = verdicts.back().result;
    good = good && result.good();
    damaged = damaged || result.damaged();
    closed = closed || result.closed();
    if (arguments.has("json")) continue;
    if (subjects.size() > 1)
      out("{}{}\n", &subject == subjects.data() ? "" : "\n", printable(subject.root()));
    print_result(result, arguments.words()[0]);
  }
  if (history.trouble()) err("note: what was found is not remembered: {}\n", history.trouble()->what());
  if (arguments.has("json")) print_document(verify_document(verdicts));
  if (damaged) return exit_code_of(ErrorKind::damage);
  if (good) return exit_done;
  if (closed) {
    err("kestrum: the passphrase at hand does not open every point\n"
        "  check those with the one that they were made with: --passphrase file:PATH\n");
    return exit_code_of(ErrorKind::key);
  }
  err("kestrum: not everything could be read: that is no damage yet\n"
      "  see to the drive and its cable, and check again\n");
  return exit_code_of(ErrorKind::failed);
}

}  // namespace

Verb verify_verb() {
  return {{"verify",
           "SUBJECT",
           "read archive sets back and check them",
           std::string("quick: seals, sizes, and the marks of every frame; all: every byte, and what any "
                       "damage means for which file.\n") +
               subject_words + "\n" + when_words,
           1,
           1,
           with_subject_options({{"depth", "DEPTH", "quick or all (usual: all)", false, {"quick", "all"}},
                                 {"at", "WHEN", "only this point and what it needs"},
                                 {"quiet", "", "no progress"}}),
           {"kestrum verify wardens", "kestrum verify /media/tern-1 --job wardens --depth quick"}},
          verify_subject};
}

}  // namespace kestrum
