#include "engine/job_drill.hpp"

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "engine/attachment.hpp"
#include "engine/each_drive.hpp"

namespace kestrum {
namespace {

// What goes wrong with the ledger is not worth a drill.
std::vector<DrillEntry> drills_of(const std::string& job, History& history) {
  constexpr int most = 100;
  try {
    if (history.ledger() != nullptr) return DrillBook(*history.ledger()).drills(job, most);
  } catch (const Error&) {
    // It is told by who keeps the ledger.
  }
  return {};
}

// Of those that are there, the one that was drilled longest ago, or never.
LookSession longest_ago(std::vector<LookSession> sessions, const std::vector<DrillEntry>& newest_first) {
  const auto place = [&](const LookSession& session) {
    const auto found = std::find_if(newest_first.begin(), newest_first.end(),
                                    [&](const DrillEntry& one) { return one.drive == session.drive_name(); });
    return found - newest_first.begin();
  };
  return std::move(*std::max_element(
      sessions.begin(), sessions.end(),
      [&](const LookSession& one, const LookSession& other) { return place(one) < place(other); }));
}

void drill_drive(const Job& job, const RunContext& context, History& history, JobDrillOutcome& outcome) {
  Attachment attachment(job, context);
  EachDrive drives(job, context);
  std::vector<LookSession> sessions;
  drives.visit([&](LookSession session) { sessions.push_back(std::move(session)); });
  LookSession session = longest_ago(std::move(sessions), drills_of(job.name, history));
  DrillRequest request;
  request.scratch = context.home.scratch_folder();
  add_drill_always(job, request);
  outcome.result = drill(session, request, context.machine, context.observer, context.control);
  const DrillEntry entry = drill_entry(*outcome.result, session, context.clock.now());
  remember_drill(entry, history);
  for (const Problem& problem : attachment.detach())
    context.observer.note(printable(problem.path) + ": " + problem.reason);
}

std::string words_of(const DrillResult& result) {
  const std::uint64_t good = result.count(DrilledFile::State::good), all = result.files.size();
  std::string text = grouped(good) + " of " + count_text(all, "file") + " came back as they were saved";
  return result.troubles.empty() ? text : text + "; " + result.troubles.front();
}

}  // namespace

void add_drill_always(const Job& job, DrillRequest& request) {
  for (const std::string& path : job.drill_with) {
    if (std::optional<TreePath> parsed = TreePath::parse(path))
      request.always.emplace_back(std::move(*parsed));
  }
}

DrillEntry drill_entry(const DrillResult& result, const LookSession& subject, Instant when) {
  DrillEntry entry;
  entry.job = subject.job()            ? subject.job()->name
              : subject.has_identity() ? subject.identity().name
                                       : std::string();
  entry.drive = result.drive;
  entry.when = when;
  entry.point = result.point.sequence;
  entry.point_started = result.point.started;
  entry.files = result.files.size();
  entry.all_files = result.all_files;
  entry.bytes = result.bytes;
  entry.all_bytes = result.all_bytes;
  entry.bad = entry.files - result.count(DrilledFile::State::good);
  entry.source_same = result.count(DrilledFile::Source::same);
  entry.source_differs = result.count(DrilledFile::Source::differs);
  entry.opened = result.opened();
  entry.unopened = result.unopened();
  entry.trials = result.trials.size();
  entry.failed_trials = static_cast<std::uint64_t>(
      std::count_if(result.trials.begin(), result.trials.end(), [](const auto& one) { return !one.good; }));
  entry.seconds = static_cast<std::uint64_t>(result.seconds + 0.5);
  entry.all_seconds = static_cast<std::uint64_t>(result.all_seconds + 0.5);
  entry.good = result.good();
  return entry;
}

void remember_drill(const DrillEntry& entry, History& history) {
  if (history.ledger() == nullptr) return;
  try {
    DrillBook(*history.ledger()).add(entry);
  } catch (const Error& error) {
    history.set_trouble(error);
  }
}

int exit_code_of(const DrillResult& result) {
  if (result.unlisted || result.count(DrilledFile::State::good) != result.files.size())
    return exit_code_of(ErrorKind::damage);
  const bool look = !result.good() || result.unopened() > 0 || result.count(DrilledFile::Source::differs) > 0;
  return look ? exit_problems : exit_done;
}

JobDrillOutcome drill_job(const std::string& name, const RunContext& context) {
  History history = History::open(context);
  JobDrillOutcome outcome;
  outcome.entry = begin_check(name, CheckKind::drill, history, context.clock);
  outcome.error = with_job_checked(name, context, [&](const Job& job, const RunContext& gentle) {
    drill_drive(job, gentle, history, outcome);
  });
  JobCheck& entry = outcome.entry;
  entry.ended = context.clock.now();
  if (outcome.result) {
    entry.exit_code = exit_code_of(*outcome.result);
    entry.bytes = outcome.result->bytes;
    entry.message = words_of(*outcome.result);
  }
  if (outcome.error) {
    entry.exit_code = worse_exit(entry.exit_code, exit_code_of(outcome.error->kind()));
    entry.complete = false;
    entry.message = outcome.error->what();
  }
  end_check(entry, history);
  return outcome;
}

}  // namespace kestrum
