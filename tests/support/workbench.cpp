#include "support/workbench.hpp"

#include <gtest/gtest.h>

#include "support/object_store.hpp"

namespace kestrum::test {

UseObjects::UseObjects() {
  usual_store = [](const std::string& root) { return open_object_store(root); };
}

Workbench::Workbench(const std::string& settings, const std::string& more_where)
    : home_(folder_ / "home", folder_ / "home/state") {
  std::filesystem::create_directories(source());
  std::filesystem::create_directories(drive());
  set_job("[what]\nfolders = [\"" + source() + "\"]\n[where]\ndestinations = [\"" + drive() + "\"]\n" +
          more_where + settings);
}

void Workbench::set_job(const std::string& text) {
  write_file(home_.job_path("job"), text);
}

void Workbench::set_keep(const std::string& lines) {
  std::string text = home_.load_job("job").text;
  set_job(text.substr(0, text.find("[keep]")) + "[keep]\n" + lines + "\n");
}

RunContext Workbench::context_of(Observer& watching, RunControl& steering) const {
  RunContext context{.home = home_, .clock = *clock, .observer = watching, .control = steering};
  context.machine = "skerry-1";
  context.program = "kestrum test";
  context.key_cost = key_cost;
  context.same_disk = true;
  context.break_lock = break_lock;
  context.meant.moved = moved;
  context.meant.new_passphrase = new_passphrase;
  context.open_store = open_store;
  context.lock_timing = lock_timing;
  context.file_clock = file_clock;
  context.journal_step = journal_step;
  return context;
}

RunOutcome Workbench::run(std::optional<Kind> kind) {
  return run_job("job", kind, context()).back();
}

RunOutcome Workbench::run_stopped_at(std::uint64_t bytes) {
  struct StopsAt final : Observer {
    // Always counted beforehand, as it is where the disk is more than half full.
    bool wants_totals() const override { return true; }
    void phase_begins(Phase phase, const PhaseTotals&) override { copying = phase == Phase::copying; }
    void advanced(std::uint64_t more, std::uint64_t) override {
      if (copying) gone += more;
      if (gone >= at) control.stop();
    }
    RunControl control;
    std::uint64_t gone = 0, at = 0;
    bool copying = false;
  } watching;
  watching.at = bytes;
  return run_job("job", std::nullopt, context_of(watching, watching.control)).back();
}

std::uint64_t Workbench::fold(std::optional<Sequence> first, std::optional<Sequence> last) {
  std::uint64_t gone = 0;
  for (const FoldOutcome& outcome : fold_job("job", {first, last, false, true}, context()))
    gone += outcome.points_gone;
  return gone;
}

std::vector<Sequence> Workbench::points() const {
  std::vector<Sequence> out;
  for (const FoundSet& set : subject().sets()) {
    if (set.sealed()) out.push_back(set.folder.sequence);
  }
  return out;
}

Sequence Workbench::run_good(std::optional<Kind> kind) {
  RunOutcome outcome = run(kind);
  EXPECT_EQ(outcome.entry.result, RunResult::done)
      << outcome.entry.message
      << (outcome.problems.empty() ? "" : outcome.problems[0].path + " " + outcome.problems[0].reason);
  return outcome.entry.sequence.value_or(0);
}

LookSession Workbench::subject(const std::string& what) const {
  SubjectOptions options;
  options.subject = what;
  options.open_store = open_store;
  return LookSession::open(&home_, options);
}

Snapshot Workbench::restored(Sequence sequence) {
  std::string target = folder_ / ("restored-" + std::to_string(++restores_));
  RestoreResult result = restore_to(target, sequence);
  EXPECT_TRUE(result.problems.empty()) << result.problems[0].path << ": " << result.problems[0].reason;
  return take_snapshot(target + "/source");
}

RestoreResult Workbench::restore_to(const std::string& target, Sequence sequence, Clash clash) {
  LookSession opened = subject();
  RestoreRequest request;
  request.paths = {*TreePath::parse(source())};
  request.target = target;
  request.clash = clash;
  request.with_owners = true;  // nobody else writes this drive
  request.with_set_id = true;
  PointWish wish;
  if (sequence != 0) wish = {PointWish::By::number, sequence, {}};
  return restore(opened, wish, request, *observer, control, {});
}

VerifyResult Workbench::verified(Depth depth) {
  LookSession opened = subject();
  VerifyRequest request;
  request.depth = depth;
  return verify(opened, request, *clock, nullptr, *observer, control);
}

std::string Workbench::set_folder(Sequence sequence) const {
  for (const FoundSet& set : subject().sets()) {
    if (set.folder.sequence == sequence) return drive() + "/" + set.folder.path;
  }
  return {};
}

}  // namespace kestrum::test
