#include "support/workbench.hpp"

#include <gtest/gtest.h>

namespace kestrum::test {

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

RunContext Workbench::context() const {
  return {home_, *clock, *observer, {}, "skerry-1", "kestrum test", 2, key_cost, {}, true, open_store};
}

RunOutcome Workbench::run(std::optional<Kind> kind) {
  return run_job("job", kind, context()).back();
}

std::uint64_t Workbench::fold(std::optional<Sequence> first, std::optional<Sequence> last) {
  std::uint64_t gone = 0;
  for (const FoldOutcome& outcome : fold_job("job", {first, last, false}, context()))
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
  EXPECT_EQ(outcome.entry.result, "done")
      << outcome.entry.message
      << (outcome.problems.empty() ? "" : outcome.problems[0].path + " " + outcome.problems[0].reason);
  return outcome.entry.sequence.value_or(0);
}

Subject Workbench::subject(const std::string& what) const {
  SubjectOptions options;
  options.subject = what;
  return Subject::open(&home_, options);
}

Snapshot Workbench::restored(Sequence sequence) {
  std::string target = folder_ / ("restored-" + std::to_string(++restores_));
  RestoreResult result = restore_to(target, sequence);
  EXPECT_TRUE(result.problems.empty()) << result.problems[0].path << ": " << result.problems[0].reason;
  return take_snapshot(target + "/source");
}

RestoreResult Workbench::restore_to(const std::string& target, Sequence sequence, Clash clash) {
  Subject opened = subject();
  RestoreRequest request;
  request.paths = {*TreePath::parse(source())};
  request.target = target;
  request.clash = clash;
  PointWish wish;
  if (sequence != 0) wish = {PointWish::By::number, sequence, {}};
  return restore(opened, wish, request, *observer, {});
}

VerifyResult Workbench::verified(VerifyDepth depth) {
  Subject opened = subject();
  VerifyRequest request;
  request.depth = depth;
  return verify(opened, request, *clock, nullptr, *observer);
}

std::string Workbench::set_folder(Sequence sequence) const {
  for (const FoundSet& set : subject().sets()) {
    if (set.folder.sequence == sequence) return drive() + "/" + set.folder.path;
  }
  return {};
}

}  // namespace kestrum::test
