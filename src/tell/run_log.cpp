#include "tell/run_log.hpp"

#include <fcntl.h>
#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>
#include <unistd.h>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {

namespace {

// A log is for people: of a million problems the first tell what is wrong.
constexpr std::size_t most_told = 1000, most_lines = 20000;

// `all`: so many there were.
std::string problem_lines(const std::vector<Problem>& problems, std::size_t all) {
  std::string text = "\nProblems: " + (problems.empty() ? std::string("none") : std::to_string(all)) + "\n";
  for (std::size_t i = 0; i < std::min(problems.size(), most_told); ++i)
    text += "  " + problem_text(problems[i]) + "\n";
  if (all > most_told) text += "  and " + count_text(all - most_told, "more problem") + "\n";
  return text;
}

}  // namespace

struct RunLog::File {
  std::shared_ptr<spdlog::logger> logger;
};

RunLog::RunLog(const Clock& clock) : clock_(clock) {}
RunLog::~RunLog() = default;

void RunLog::run_begins(const std::string& log_file) {
  path_ = log_file;
  try {
    // Logs name files that others may not know of.
    FileHandle(open((path_ + ".steps").c_str(), O_WRONLY | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600));
    auto sink = std::make_shared<spdlog::sinks::basic_file_sink_mt>(path_ + ".steps", true);
    file_ = std::make_unique<File>();
    file_->logger = std::make_shared<spdlog::logger>("run", sink);
    file_->logger->set_pattern("%v");  // our own clock, which may be a simulated one
    file_->logger->flush_on(spdlog::level::info);
    // It would say so on standard error; `finish` does.
    file_->logger->set_error_handler([](const std::string&) {});
    for (const std::string& text : std::exchange(early_, {})) file_->logger->info(text);
  } catch (const spdlog::spdlog_ex&) {
    file_.reset();  // told by finish
  }
}

void RunLog::line(const std::string& text) {
  constexpr std::size_t most_early = 1000;
  if (++lines_ > most_lines) return;
  const std::string dated = local_text_seconds(clock_.now()) + "  " + text;
  if (file_) file_->logger->info(dated);
  if (!file_ && early_.size() < most_early) early_.push_back(dated);
}

void RunLog::phase_begins(Phase phase, const PhaseTotals&) {
  switch (phase) {
    case Phase::scanning:
      return line("scanning the sources");
    case Phase::sampling:
      return line("compressing a sample");
    case Phase::copying:
      return line("copying");
    case Phase::sealing:
      return line("sealing");
    case Phase::checking:
      return line("reading back what was written");
    case Phase::restoring:
      return line("restoring");
    case Phase::folding:
      return line("folding");
    case Phase::mending:
      return line("mending");
  }
}

void RunLog::problem(const Problem& problem) {
  if (++problems_ <= most_told) line("problem: " + problem_text(problem));
}
void RunLog::note(const std::string& text) {
  line(text);
}

std::string problem_text(const Problem& problem) {
  std::string where = problem.path.empty() ? "" : " " + printable(problem.path);
  return "could not " + problem.operation + where + ": " + problem.reason;
}

std::vector<std::string> run_summary(const RunEntry& run) {
  std::vector<std::string> lines;
  lines.push_back("Job " + printable(run.job) + ", run " + std::to_string(run.number) + ": " +
                  std::string(result_text(run.result)) + " (exit code " + std::to_string(run.exit_code) +
                  ")");
  if (!run.message.empty()) lines.push_back("Why: " + run.message);
  std::string times = "Started " + local_text_seconds(run.started) + " " + zone_text(run.started);
  if (run.ended) times += ", took " + duration_text(between(run.started, *run.ended));
  lines.push_back(times);
  lines.push_back("Destination " + printable(run.destination));
  if (!run.sequence) return lines;
  const SetTotals& totals = run.totals;
  lines.push_back("Point " + std::to_string(*run.sequence) + ", " +
                  std::string(run.kind ? kind_name(*run.kind) : "") + ": " + run.reason);
  lines.push_back("Holds " + count_text(totals.files, "file") + " and " +
                  count_text(totals.folders, "folder") + ", " + size_text(totals.bytes));
  lines.push_back("New " + grouped(totals.new_files) + ", changed " + grouped(totals.changed_files) +
                  ", gone " + grouped(totals.gone_files) + "; read " + size_text(totals.read_bytes) +
                  ", stored " + size_text(totals.stored_bytes));
  for (const std::string& line : run.upkeep) lines.push_back("Kept up: " + line);
  lines.push_back("Check: " + std::string(read_back_text(run.checked)));
  return lines;
}

std::string read_log(const RunEntry& run) {
  constexpr std::size_t largest = 64u << 20;
  for (const std::string& file : {run.log_file, run.log_file + ".steps"}) {
    try {
      if (!run.log_file.empty()) return std::string(as_text(read_small_file(file, largest)));
    } catch (const Error&) {
      // The other one.
    }
  }
  throw Error(ErrorKind::usage, "the log of run " + std::to_string(run.number) + " is not kept any more",
              "what is known of it: kestrum history " + shell_word(printable(run.job)) + " --run " +
                  std::to_string(run.number));
}

std::optional<std::string> RunLog::finish(const RunOutcome& outcome) {
  if (path_.empty()) return std::nullopt;
  bool had_steps = file_ != nullptr;
  if (file_) file_->logger->flush();
  file_.reset();
  std::string text;
  for (const std::string& line : run_summary(outcome.entry)) text += line + "\n";
  if (outcome.error && !outcome.error->hint().empty()) text += "What to do: " + outcome.error->hint() + "\n";
  text += problem_lines(outcome.problems, std::max(problems_, outcome.problems.size()));
  text += "\nWhat happened\n";
  try {
    if (had_steps) {
      Bytes steps = read_small_file(path_ + ".steps", 64u << 20);
      text += as_text(steps);
    }
    if (problems_ > most_told) text += count_text(problems_ - most_told, "more problem") + " left out here\n";
    if (lines_ > most_lines) text += count_text(lines_ - most_lines, "more line") + " left out\n";
    problems_ = lines_ = 0;
    replace_file(path_, as_bytes(text), 0600);
    unlink((path_ + ".steps").c_str());
  } catch (const Error& error) {
    return std::string("the log could not be written: ") + error.what();
  }
  return std::nullopt;
}

}  // namespace kestrum
