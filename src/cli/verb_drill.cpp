// drill.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/verbs.hpp"
#include "engine/job_drill.hpp"
#include "rules/check_limit.hpp"
#include "tell/drill_words.hpp"
#include "tell/output_file.hpp"

namespace kestrum {
namespace {

// What does not come back is told in the end, file by file.
class WithoutProblems final : public Observer {
 public:
  explicit WithoutProblems(Observer& shown) : shown_(shown) {}
  bool wants_totals() const override { return shown_.wants_totals(); }
  void phase_begins(Phase phase, const PhaseTotals& totals) override { shown_.phase_begins(phase, totals); }
  void file_begins(const std::string& path, std::uint64_t size) override { shown_.file_begins(path, size); }
  void advanced(std::uint64_t bytes, std::uint64_t files) override { shown_.advanced(bytes, files); }
  void note(const std::string& text) override { shown_.note(text); }

 private:
  Observer& shown_;
};

void print_result(const DrillResult& result, const DrillEntry& entry) {
  constexpr std::size_t most = 30;
  out("{}\n", drill_sentence(entry));
  out("From point {} of {}:\n", point_text(result.point), printable(entry.drive));
  for (const std::string& line : drill_lines(result)) out("  {}\n", line);
  std::size_t listed = 0;
  for (const DrilledFile& file : result.files) {
    const std::string trouble = drilled_trouble(file);
    if (trouble.empty()) continue;
    if (++listed == 1) out("What needs a look:\n");
    if (listed <= most) out_lines("  {}: {}\n", printable(file.path), trouble);
  }
  if (listed > most) out("  and {} more; --json lists all\n", grouped(listed - most));
  if (const std::string advice = drill_advice(entry); !advice.empty()) out("{}\n", advice);
  if (!result.kept_in.empty()) out("What was brought back is in {}.\n", printable(result.kept_in));
}

DrillRequest request_of(const Arguments& arguments, const Environment& environment,
                        const LookSession& subject) {
  DrillRequest request;
  if (const auto files = arguments.number("files", 1, 1000000))
    request.files = static_cast<std::uint32_t>(*files);
  if (const auto seed = arguments.number("seed", 0, INT64_MAX))
    request.seed = static_cast<std::uint64_t>(*seed);
  for (const std::string& path : arguments.values("with")) request.always.push_back(wanted_path(path));
  if (subject.job()) add_drill_always(*subject.job(), request);
  request.scratch = arguments.value("into").value_or(environment.home().scratch_folder());
  request.keep = arguments.has("stays");
  request.rebuild = arguments.has("rebuild");
  return request;
}

int drill_subject(const Arguments& arguments, const Environment& environment) {
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  const DrivePoint chosen = choose_drive(subjects, arguments.value("at"), environment.clock().now());
  LookSession& subject = subjects[chosen.session];
  DrillRequest request = request_of(arguments, environment, subject);
  request.at = chosen.wish;
  History history =
      History::open(environment.home(), [](const std::string& text) { err("note: {}\n", text); });
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  WithoutProblems shown(progress);
  const DrillResult result = drill(subject, request, environment.machine(), shown, process_control());
  progress.finish();
  const DrillEntry entry = drill_entry(result, subject, environment.clock().now());
  remember_drill(entry, history);
  if (history.trouble()) err("note: the drill is not remembered: {}\n", history.trouble()->what());
  const std::optional<std::string> page = arguments.value("page");
  if (page) {
    OutputFile file(*page);
    file.write(drill_page(result, entry));
    file.keep();
  }
  if (arguments.has("json")) {
    print_document(drill_document(result, entry));
  } else {
    print_result(result, entry);
    if (page) out("The page for the owner of the files is {}.\n", printable(*page));
  }
  return exit_code_of(result);
}

}  // namespace

Verb drill_verb() {
  return {
      {"drill",
       "SUBJECT",
       "rehearse a restore: a sample comes back, is compared and opened",
       std::string(
           "Files chosen by chance are brought back into an empty folder, as a restore does it, and compared "
           "with what the point has and with those on the disk that did not change since. What has a usual "
           "program on this machine is opened in it. Then the folder goes.\n") +
           subject_words + "\n" + when_words,
       1,
       1,
       with_subject_options(
           {{"at", "WHEN", "the point (usual: the newest)"},
            {"files", "NUMBER", "how many files (usual: 200)"},
            {"with", "PATH", "a file or folder that must be among them; besides [check] drill-with", true},
            {"seed", "NUMBER", "the same sample as the drill that said this number"},
            {"rebuild", "", "also try what could be lost besides files: seals, an index, the job itself"},
            {"into", "DIR", "where the folder is made (usual: kestrum's own)"},
            {"stays", "", "what was brought back stays there"},
            {"page", "FILE", "a page for the owner of the files"},
            {"quiet", "", "no progress"}}),
       {"kestrum drill wardens", "kestrum drill wardens --page drill.html --rebuild",
        "kestrum drill wardens --files 20 --with ringing/2026.csv"}},
      drill_subject};
}

}  // namespace kestrum
