#include "engine/around.hpp"

#include <unistd.h>

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "base/shell_command.hpp"
#include "base/text.hpp"
#include "engine/history.hpp"
#include "engine/watch_note.hpp"
#include "job/command_lines.hpp"

namespace kestrum {
namespace {

// Whoever stops a run waits for its end.
constexpr std::chrono::seconds after_a_stop = std::chrono::minutes(2);

std::map<std::string, std::string> variables(const RunOutcome& outcome) {
  const RunEntry& run = outcome.entry;
  const auto number = [](auto value) { return std::to_string(value); };
  return {{"KESTRUM_RUN", number(run.number)},
          {"KESTRUM_RESULT", std::string(result_text(run.result))},
          {"KESTRUM_EXIT_CODE", number(run.exit_code)},
          {"KESTRUM_MESSAGE", printable(run.message)},
          {"KESTRUM_DESTINATION", run.destination},
          {"KESTRUM_POINT", run.sequence ? number(*run.sequence) : ""},
          {"KESTRUM_SET_FOLDER", outcome.set_folder},
          {"KESTRUM_PROBLEMS", number(run.problems)},
          {"KESTRUM_FILES", number(run.totals.files)},
          {"KESTRUM_NEW_FILES", number(run.totals.new_files)},
          {"KESTRUM_CHANGED_FILES", number(run.totals.changed_files)},
          {"KESTRUM_GONE_FILES", number(run.totals.gone_files)},
          {"KESTRUM_STORED_BYTES", number(run.totals.stored_bytes)}};
}

bool failed(const RunEntry& run) {
  return run.exit_code > exit_problems && run.result != RunResult::stopped;
}

}  // namespace

std::chrono::seconds Around::limit() const {
  const Instant now = context_.clock.now();
  return std::chrono::seconds(kestrum::after(now, job_.around_limit).seconds - now.seconds);
}

bool Around::another_goes_on() const {
  History history = History::open(context_);
  if (history.ledger() == nullptr) return true;  // nobody knows
  const std::vector<RunEntry> runs = history.ledger()->unended_runs();
  return std::any_of(runs.begin(), runs.end(), [&](const RunEntry& run) {
    const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
    return run.job == job_.name && process && process->pid != getpid() && process->is_running();
  });
}

std::optional<std::string> Around::run(const std::string& when, const std::string& command,
                                       const std::map<std::string, std::string>& more,
                                       std::chrono::seconds limit, RunControl& control) {
  std::map<std::string, std::string> environment = more;
  environment.emplace("KESTRUM_JOB", job_.name);
  environment.emplace("KESTRUM_MACHINE", context_.machine);
  environment.emplace("KESTRUM_WHEN", when);
  CommandResult result;
  try {
    result = run_shell(command, environment, limit, control);
  } catch (const Error& error) {
    return error.what();
  }
  for (const std::string& line : split(result.output, '\n')) {
    if (!line.empty()) context_.observer.note(when + ": " + printable(line));
  }
  if (!result.good()) return result.reason(limit);
  context_.observer.note(when + ": the command ended well");
  return std::nullopt;
}

bool Around::before(const std::function<void(const Problem&)>& problem) {
  if (failed_) throw *failed_;
  if (std::exchange(came_so_far_, true) || job_.before.empty()) return false;
  const std::optional<std::string> why = run("before", job_.before, {}, limit(), context_.control);
  if (why && !job_.goes_on_without_before) {
    failed_ = Error(ErrorKind::failed, "the command before the run failed: " + *why,
                    "try it by hand: " + short_command(job_.before) +
                        "; to save all the same when it fails: kestrum job edit " +
                        shell_word(printable(job_.name)) + " --around-if-before-fails 'go on'");
    throw *failed_;
  }
  if (why) problem({"", "run the command before the run", *why});
  if (context_.start != 0) look_at_everything_from_now(context_.home, job_.name, context_.start);
  return true;
}

std::vector<Problem> Around::after(const RunOutcome& outcome) {
  std::vector<Problem> problems;
  if (!came_so_far_ && another_goes_on()) return problems;
  RunControl own;
  const bool stopped = outcome.entry.result == RunResult::stopped;
  const std::chrono::seconds most = stopped ? std::min(limit(), after_a_stop) : limit();
  const auto run_it = [&](const std::string& when, const std::string& which, const std::string& command) {
    if (command.empty()) return;
    if (const std::optional<std::string> why = run(when, command, variables(outcome), most, own))
      problems.push_back({"", "run the command " + which, *why});
  };
  if (failed(outcome.entry)) run_it("after-failure", "after the failed run", job_.after_failure);
  run_it("after", "after the run", job_.after);
  return problems;
}

}  // namespace kestrum
