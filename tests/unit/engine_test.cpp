// What a run decides and remembers: leftovers, damage, lost homes, twins of seals, the ledger, the lock.
#include <gtest/gtest.h>
#include <unistd.h>

#include "engine/job_rebuild.hpp"
#include "engine/look.hpp"
#include "engine/preview.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

TEST(Runs, RenewTheFullWhenItIsDue) {
  Workbench bench("[how]\nrenew = \"every 3 sets\"\n[protect]\nencryption = \"none\"\n");
  write_file(bench.source() + "/a", "x");
  std::string kinds;
  for (int i = 0; i < 7; ++i) kinds += kind_name(*bench.run().entry.kind)[0];
  EXPECT_EQ(kinds, "fiifiif");
}

TEST(Runs, TurningEncryptionOnBeginsANewChain) {
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  bench.run_good();
  write_file(bench.path("pass"), "tern\n");
  chmod(bench.path("pass").c_str(), 0600);
  bench.set_job("[what]\nfolders = [\"" + bench.source() + "\"]\n[where]\ndestinations = [\"" +
                bench.drive() + "\"]\n[protect]\npassphrase = \"file:" + bench.path("pass") + "\"\n");
  RunOutcome outcome = bench.run();
  EXPECT_EQ(outcome.entry.kind, Kind::full);
  EXPECT_NE(outcome.entry.reason.find("encryption was turned on"), std::string::npos);
  EXPECT_EQ(bench.run().entry.kind, Kind::incremental);
  EXPECT_EQ(bench.restored(1).at("a").content, "x");
  EXPECT_EQ(bench.restored(3).at("a").content, "x");
}

TEST(Runs, SequencesAreNeverUsedAgain) {
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  bench.run_good();
  Sequence second = bench.run_good();
  fs::remove_all(bench.set_folder(second));
  bench.moved = true;  // it is meant
  EXPECT_EQ(bench.run_good(), second + 1);
}

// Once a person has said that the sets are this home's: another machine of that name might have made them.
TEST(Runs, ALostHomeGoesOnWithTheSameChain) {
  Workbench bench;
  write_file(bench.source() + "/a", std::string(300000, 'x'));
  bench.run_good();
  fs::remove_all(bench.path("home/state"));
  RunOutcome outcome = bench.run();
  ASSERT_TRUE(outcome.error);
  EXPECT_EQ(outcome.error->kind(), ErrorKind::wrong_drive);
  EXPECT_NE(outcome.error->hint().find("--take-over"), std::string::npos);
  LookSession there = bench.subject(bench.drive());
  EXPECT_EQ(take_over_sets(bench.home(), bench.home().load_job("job"), there).points, 1u);
  outcome = bench.run();
  EXPECT_EQ(outcome.entry.kind, Kind::incremental);
  EXPECT_EQ(*outcome.entry.sequence, 2u);
  EXPECT_LT(outcome.entry.totals.new_bytes, 20000u);
  EXPECT_EQ(bench.restored(2).at("a").content.size(), 300000u);
}

TEST(Runs, DamageThatIsKnownIsSavedAnew) {
  Workbench bench("[how]\ncompression = \"fast\"\n[protect]\nencryption = \"none\"\n");
  TreeMaker maker(bench.source(), 21);
  maker.grow(80);
  write_file(bench.source() + "/large", std::string(9u << 20, 'l') + "end");
  bench.settle_files();
  bench.run_good();
  Snapshot tree = take_snapshot(bench.source());
  // A byte in the first content frame.
  std::string volume = bench.set_folder(1) + "/data-001.kvol";
  std::string content = read_file(volume);
  content[200] = static_cast<char>(content[200] ^ 1);
  write_file(volume, content);
  Ledger ledger(bench.home().ledger_path());
  History history(ledger);
  LookSession subject = bench.subject();
  VerifyResult found = verify(subject, {}, *bench.clock, &history, *bench.observer, bench.control);
  EXPECT_FALSE(found.good());
  RunOutcome outcome = bench.run();
  // It says so, once.
  EXPECT_EQ(outcome.entry.result, RunResult::done_with_problems);
  ASSERT_EQ(outcome.problems.size(), 1u);
  EXPECT_NE(outcome.problems[0].operation.find("unchanged file"), std::string::npos);
  EXPECT_EQ(outcome.entry.totals.changed_files, 0u);
  EXPECT_GT(outcome.entry.totals.read_bytes, 0u);
  EXPECT_EQ(compare_snapshots(tree, bench.restored(2)), "");
  EXPECT_EQ(list_points(bench.subject(), &history).points.at(0).health, Health::damaged);
  EXPECT_EQ(list_points(bench.subject(), &history).points.at(1).health, Health::proved);
}

TEST(Runs, AMissingVolumeOrIndexOrSealOfTheBaseIsWorkedAround) {
  for (const char* lost : {"data-001.kvol", "index.kidx", "seals"}) {
    Workbench bench("[how]\nvolume-size = \"64 KiB\"\n[protect]\nencryption = \"none\"\n");
    TreeMaker maker(bench.source(), 22);
    maker.grow(60);
    write_file(bench.source() + "/noise", [] {
      std::string text(400000, '\0');
      std::mt19937 random(3);
      for (char& c : text) c = static_cast<char>(random());
      return text;
    }());
    bench.run_good();
    maker.churn(5);
    bench.run_good();
    for (Sequence sequence : {1u, 2u}) {
      std::string folder = bench.set_folder(sequence);
      if (std::string(lost) == "seals") {
        if (sequence == 2) continue;
        fs::remove(folder + "/seal.json");
        fs::remove(folder + "/seal-copy.json");
      } else {
        fs::remove(folder + "/" + lost);
      }
    }
    Snapshot now = take_snapshot(bench.source());
    RunOutcome outcome = bench.run();
    ASSERT_TRUE(outcome.entry.sequence) << lost << ": " << outcome.entry.message;
    // While a point lacks a set that it needs, or files had to be saved anew, no run says that all is well.
    bool incomplete = std::string(lost) == "seals";
    EXPECT_EQ(outcome.entry.result, RunResult::done_with_problems) << lost;
    ASSERT_EQ(outcome.problems.size(), incomplete ? 2u : 1u) << lost;
    if (incomplete) {
      EXPECT_NE(outcome.problems.back().reason.find("point 2, which needs set 1"), std::string::npos)
          << outcome.problems.back().reason;
    }
    EXPECT_EQ(compare_snapshots(now, bench.restored(*outcome.entry.sequence)), "") << lost;
  }
}

TEST(Runs, ASetThatLacksItsLastStrokesIsFinished) {
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  bench.run_good();
  std::string folder = bench.set_folder(1);
  fs::remove(folder + "/seal-copy.json");
  write_file(folder + "/open.json", "left");
  fs::rename(folder, folder + ".unfinished");
  EXPECT_EQ(bench.restored(1).at("a").content, "x") << "it is a set, whatever it is called";
  bench.run_good();
  EXPECT_TRUE(fs::exists(folder + "/seal-copy.json"));
  EXPECT_FALSE(fs::exists(folder + "/open.json"));
  EXPECT_TRUE(bench.verified().good());
}

TEST(Runs, WithoutJobOrDriveFileEverythingStillReads) {
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  bench.run_good();
  std::string set = bench.set_folder(1);
  fs::remove(bench.drive() + "/skerry-1/job/job.json");
  LookSession by_set = bench.subject(set);
  EXPECT_EQ(by_set.identity().name, "job");
  EXPECT_FALSE(by_set.findings().empty());
  OpenPoint point(by_set, {});
  EXPECT_EQ(browse(point, *TreePath::parse(bench.source())).children.size(), 1u);
}

TEST(Runs, AJobsFolderCopiedElsewhereReads) {
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  bench.run_good();
  fs::copy(bench.drive() + "/skerry-1/job", bench.path("carried"), fs::copy_options::recursive);
  LookSession subject = bench.subject(bench.path("carried") + "/");
  OpenPoint point(subject, {});
  EXPECT_EQ(point.facts().sequence, 1u);
}

TEST(Runs, StoppingLeavesNothing) {
  struct Stopper : Observer {
    explicit Stopper(RunControl& steered) : control(steered) {}
    void advanced(std::uint64_t, std::uint64_t) override {
      if (++steps > 20) control.stop();
    }
    RunControl& control;
    int steps = 0;
  };
  Workbench bench;
  TreeMaker maker(bench.source(), 5);
  maker.grow(60);
  Stopper stopper(bench.control);
  bench.observer = &stopper;
  RunOutcome outcome = bench.run();
  EXPECT_EQ(outcome.entry.result, RunResult::stopped);
  EXPECT_EQ(outcome.entry.exit_code, 11);
  std::size_t left = 0;
  for (const auto& entry : fs::recursive_directory_iterator(bench.drive()))
    left += entry.is_regular_file() ? 1 : 0;
  EXPECT_EQ(left, 3u) << "drive.json, job.json, room.tmp";
}

TEST(Preview, CountsWithoutWriting) {
  Workbench bench;
  for (int i = 0; i < 10; ++i) write_file(bench.source() + "/f" + std::to_string(i), std::string(1000, 'x'));
  bench.settle_files();
  bench.run_good();
  write_file(bench.source() + "/f1", "changed");
  write_file(bench.source() + "/new", "new");
  fs::remove(bench.source() + "/f2");
  Snapshot before = take_snapshot(bench.drive());
  PreviewResult result = preview_job("job", std::nullopt, bench.context());
  EXPECT_EQ(result.all.added.files, 1u);
  EXPECT_EQ(result.all.changed.files, 1u);
  EXPECT_EQ(result.gone_files, 1u);
  EXPECT_EQ(result.all.held.files, 8u);
  EXPECT_EQ(result.next.kind, Kind::incremental);
  EXPECT_EQ(compare_snapshots(before, take_snapshot(bench.drive())), "");
}

TEST(Ledger, KeepsRunsAndRefusesANewerOne) {
  TempFolder folder;
  std::string path = folder / "ledger.db";
  {
    Ledger ledger(path);
    RunEntry run;
    run.job = "wardens";
    run.started = {1000, 5};
    ledger.begin_run(run);
    EXPECT_EQ(run.number, 1);
    EXPECT_FALSE(ledger.run("wardens", 1)->ended) << "a run that was cut off has no end";
    run.ended = Instant{1010, 0};
    run.result = RunResult::done_with_problems;
    run.problems = 1;
    run.totals.bytes = std::uint64_t{1} << 45;
    run.broken = {{"age = 30 days", 3, Instant{500, 0}}, {"points = 9 points", 1, {}}};
    ledger.finish_run(run, {{"/srv/\xff", "read", "permission denied"}});
    RunEntry next;
    next.job = "wardens";
    ledger.begin_run(next);
    EXPECT_EQ(next.number, 2);
  }
  Ledger again(path);
  std::optional<RunEntry> run = again.run("wardens", 1);
  ASSERT_TRUE(run);
  EXPECT_EQ(run->started, (Instant{1000, 5}));
  EXPECT_EQ(run->totals.bytes, std::uint64_t{1} << 45);
  EXPECT_EQ(again.problems(run->id).at(0).path, "/srv/\xff");
  EXPECT_EQ(again.runs("", 10).size(), 2u);
  EXPECT_FALSE(again.run("moths", 1));
  ASSERT_EQ(run->broken.size(), 2u);
  EXPECT_EQ(run->broken[0].rule, "age = 30 days");
  EXPECT_EQ(run->broken[0].points, 3u);
  EXPECT_EQ(run->broken[0].oldest_left, (Instant{500, 0}));
  EXPECT_FALSE(run->broken[1].oldest_left);
  Database(path).run("PRAGMA user_version = 99");
  EXPECT_THROW(Ledger{path}, Error);
}

TEST(Ledger, OneOfAnOlderVersionIsTakenOn) {
  TempFolder folder;
  std::string path = folder / "ledger.db";
  {
    Ledger ledger(path);
    RunEntry run;
    run.job = "wardens";
    ledger.begin_run(run);
  }
  Database(path).run(
      "ALTER TABLE run DROP COLUMN broken; ALTER TABLE run DROP COLUMN process; DROP INDEX run_job; DROP "
      "TABLE job_time; "
      "DROP TABLE due; DROP TABLE event; DROP TABLE restore; DROP TABLE proof; DROP TABLE check_round; "
      "DROP TABLE job_check; DROP TABLE drill; DROP TABLE point; "
      "PRAGMA "
      "user_version = 3");
  Ledger again(path);
  std::optional<RunEntry> run = again.run("wardens", 1);
  ASSERT_TRUE(run);
  EXPECT_TRUE(run->broken.empty());
  run->broken = {{"points = 9 points", 1, {}}};
  again.finish_run(*run, {});
  EXPECT_EQ(again.run("wardens", 1)->broken.size(), 1u);
}

// Does something when a phase begins.
struct AtPhase final : Observer {
  Phase phase = Phase::checking;
  std::function<void()> act;
  void phase_begins(Phase begun, const PhaseTotals&) override {
    if (begun == phase) act();
  }
};

TEST(Runs, StoppedWhileItIsReadBackThePointIsThereAndTheRunSaysStopped) {
  Workbench bench;
  write_file(bench.source() + "/a", std::string(3 << 20, 'x'));
  AtPhase observer;
  observer.act = [&] { bench.control.stop(); };
  bench.observer = &observer;
  RunOutcome outcome = bench.run();
  EXPECT_EQ(outcome.entry.exit_code, 11);
  EXPECT_EQ(outcome.entry.checked, ReadBack::stopped);
  EXPECT_EQ(outcome.entry.sequence, 1u);
  EXPECT_EQ(bench.points(), std::vector<Sequence>{1});
}

TEST(Runs, AJobThatIsRemovedInMidRunIsAProblemOfTheRun) {
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  AtPhase observer;
  observer.phase = Phase::copying;
  observer.act = [&] { bench.home().remove_job("job"); };
  bench.observer = &observer;
  RunOutcome outcome = bench.run();
  EXPECT_EQ(outcome.entry.exit_code, 1);
  ASSERT_EQ(outcome.problems.size(), 1u);
  EXPECT_NE(outcome.problems[0].reason.find("removed or renamed"), std::string::npos);
}

}  // namespace
}  // namespace kestrum::test
