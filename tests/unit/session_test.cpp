// What one command opens and derives, what it says of a point that is gone, and that a broken home stops
// nothing.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <unistd.h>

#include "base/exit_codes.hpp"
#include "engine/preview.hpp"
#include "engine/status.hpp"
#include "store/forwarding_store.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Opens of seals, and of everything else, in one command on a destination of `sets` sets.
struct Opened {
  std::uint64_t seals = 0, copies = 0;
};

template <typename F>
Opened count(Workbench& bench, F&& command) {
  auto counts = std::make_shared<CountingStore::Counts>();
  bench.open_store = [&](const std::string& root) {
    return std::make_unique<CountingStore>(open_local_store(root), counts);
  };
  command();
  bench.open_store = open_local_store;
  return {counts->opened_named("seal.json"), counts->opened_named("seal-copy.json")};
}

// What others do to the sets while they are looked at is no damage.
TEST(Session, APointThatIsFinishedOrRemovedMeanwhileIsNoDamage) {
  Workbench bench;
  for (int i = 0; i < 2; ++i) {
    write_file(bench.source() + "/f", std::to_string(i));
    bench.run_good();
  }
  const std::string set = bench.set_folder(2);
  std::filesystem::rename(set, set + ".unfinished");
  LookSession session = bench.subject();
  ASSERT_NE(session.sets().sealed(2), nullptr);
  std::filesystem::rename(set + ".unfinished", set);
  const PointsResult finished = list_points(session, nullptr);
  ASSERT_EQ(finished.points.size(), 2u);
  EXPECT_THAT(finished.points[1].findings, testing::IsEmpty());
  EXPECT_EQ(finished.points[1].health, Health::unproved);
  std::filesystem::remove_all(set);
  const PointsResult removed = list_points(session, nullptr);
  ASSERT_EQ(removed.points.size(), 1u);
  EXPECT_EQ(removed.points[0].health, Health::unproved);
}

TEST(Session, EachSealIsOpenedOnceACommand) {
  Workbench bench(
      "[how]\nrenew = \"every 5 sets\"\n[protect]\nencryption = \"none\"\n[keep]\npoints = \"100 points\"\n");
  for (int i = 0; i < 12; ++i) {
    write_file(bench.source() + "/f", std::to_string(i));
    bench.run_good();
  }
  auto expect_once = [&](const char* what, std::uint64_t sets, Opened opened) {
    EXPECT_EQ(opened.seals, sets) << what;
    EXPECT_EQ(opened.copies, sets) << what;
  };
  write_file(bench.source() + "/f", "another");
  // Of a run, its own is read back besides.
  expect_once("run", 13, count(bench, [&] { bench.run_good(); }));
  expect_once("points", 13, count(bench, [&] { list_points(bench.subject(), nullptr); }));
  expect_once("restore", 13, count(bench, [&] { bench.restored(4); }));
  expect_once("preview", 13, count(bench, [&] { preview_job("job", {}, bench.context()); }));
  bench.set_keep("points = \"3 points\"");
  // Whole chains go: what is left is not read again.
  Opened pruned = count(bench, [&] { prune_job("job", false, bench.context()); });
  EXPECT_LT(bench.points().size(), 13u);
  expect_once("prune", 13, pruned);
  bench.set_keep("points = \"100 points\"");
  std::uint64_t left = bench.points().size();
  // A fold reads the set that it has written.
  Sequence last = bench.points().back();
  expect_once("fold", left + 1, count(bench, [&] { bench.fold({}, last); }));
}

class Encrypted : public testing::Test {
 protected:
  Encrypted()
      : bench_("[how]\nrenew = \"every 2 sets\"\n[protect]\npassphrase = \"file:" + pass() +
               "\"\n[keep]\npoints = \"100 points\"\n") {
    for (int i = 0; i < 9; ++i) {
      write_file(bench_.source() + "/f", std::to_string(i));
      bench_.run_good();
    }
  }
  std::string pass() {
    write_file(folder_ / "pass", "tern in the fog\n");
    chmod((folder_ / "pass").c_str(), 0600);
    return folder_ / "pass";
  }
  TempFolder folder_;
  Workbench bench_;
};

TEST_F(Encrypted, OneKeyIsDerivedForAllChains) {
  LookSession session = bench_.subject();
  std::set<Id> chains;
  for (const FoundSet& set : session.sets()) chains.insert(set.facts().chain);
  ASSERT_GE(chains.size(), 4u);
  VerifyResult found = verify(session, {}, *bench_.clock, nullptr, *bench_.observer, bench_.control);
  EXPECT_TRUE(found.good());
  EXPECT_EQ(session.keys().derivations(), 1u);
  // Listing points needs no key.
  LookSession looked = bench_.subject();
  list_points(looked, nullptr);
  EXPECT_EQ(looked.keys().derivations(), 0u);
}

TEST_F(Encrypted, ARunAndAPruningDeriveOneKeyAtMost) {
  Job job = bench_.home().load_job("job");
  std::shared_ptr<KeyRing> keys = job_keys(job, {});
  History history = History::open(bench_.home(), [](const std::string&) {});
  RunContext context = bench_.context();
  {
    LookSession found(job, bench_.drive(), bench_.home().load_state("job"), context, keys);
    WriteSession session(std::move(found), context);
    Upkeep upkeep(session, history);
    // No rule asks for anything to go: nothing encrypted is read.
    EXPECT_TRUE(upkeep.prune().nothing());
    EXPECT_EQ(keys->derivations(), 0u);
  }
  bench_.set_keep("points = \"2 points\"");
  job = bench_.home().load_job("job");
  LookSession found(job, bench_.drive(), bench_.home().load_state("job"), context, keys);
  WriteSession session(std::move(found), context);
  Upkeep upkeep(session, history);
  EXPECT_GT(upkeep.prune().removed, 0u);
  EXPECT_EQ(keys->derivations(), 1u);
}

TEST(Session, APointThatIsGoneAsAWholeIsNoticed) {
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  for (int i = 0; i < 3; ++i) bench.run_good();
  EXPECT_TRUE(bench.verified().good());
  fs::remove_all(bench.set_folder(3));
  VerifyResult found = bench.verified();
  ASSERT_FALSE(found.good());
  EXPECT_NE(found.findings.at(0).find("point 3 was made here"), std::string::npos) << found.findings[0];
  EXPECT_EQ(list_points(bench.subject(), nullptr).findings.size(), 1u);
  std::vector<JobStatus> status = job_status({}, bench.context());
  ASSERT_FALSE(status.at(0).troubles.empty());
  EXPECT_EQ(status[0].troubles[0].kind, TroubleKind::gone);
  // Nothing is put in its place until a person has looked; then all is well again.
  EXPECT_EQ(bench.run().entry.exit_code, exit_code_of(ErrorKind::wrong_drive));
  bench.moved = true;
  bench.run_good();
  EXPECT_TRUE(bench.verified().good());
}

// Home full, read-only, its ledger locked or broken, its log not writable: the run happens and says so.
// A file system that does not say when names are on the drive.
class NoFolderFlush final : public ForwardingStore {
 public:
  using ForwardingStore::ForwardingStore;
  bool flush_folder(const std::string&) override { return false; }
};

TEST(Session, ADriveThatFlushesNoFoldersIsToldOnce) {
  struct Notes final : Observer {
    void note(const std::string& text) override {
      told += text.find("does not say when names of files are on the drive") != std::string::npos ? 1 : 0;
    }
    int told = 0;
  } notes;
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  bench.observer = &notes;
  bench.run_good();
  EXPECT_EQ(notes.told, 0);
  bench.open_store = [](const std::string& root) {
    return std::make_unique<NoFolderFlush>(open_local_store(root));
  };
  write_file(bench.source() + "/a", "y");
  bench.run_good();
  EXPECT_EQ(notes.told, 1);
}

class BrokenHome : public testing::Test {
 protected:
  BrokenHome() {
    write_file(bench_.source() + "/a", "x");
    bench_.run_good();
    write_file(bench_.source() + "/a", "y");
  }
  void expect_run(const std::string& said) {
    RunOutcome outcome = bench_.run();
    ASSERT_TRUE(outcome.entry.sequence) << outcome.entry.message;
    EXPECT_EQ(outcome.entry.exit_code, 1);
    bool told = false;
    for (const Problem& problem : outcome.problems)
      told = told || problem.operation.find(said) != std::string::npos;
    EXPECT_TRUE(told) << said << ": "
                      << (outcome.problems.empty() ? "no problem" : outcome.problems[0].operation);
    EXPECT_EQ(bench_.restored(*outcome.entry.sequence).at("a").content, "y");
  }
  std::string state() const { return bench_.path("home/state"); }
  Workbench bench_;
};

TEST_F(BrokenHome, ReadOnly) {
  if (geteuid() != 0) GTEST_SKIP() << "mounting needs root";
  std::string home = bench_.path("home");
  ASSERT_EQ(mount(home.c_str(), home.c_str(), nullptr, MS_BIND, nullptr), 0);
  ASSERT_EQ(mount(nullptr, home.c_str(), nullptr, MS_BIND | MS_REMOUNT | MS_RDONLY, nullptr), 0);
  expect_run("remember which drive");
  EXPECT_EQ(umount2(home.c_str(), MNT_DETACH), 0);
  // Put right, it goes on as before.
  bench_.run_good();
}

TEST_F(BrokenHome, Full) {
  if (geteuid() != 0) GTEST_SKIP() << "mounting needs root";
  fs::copy(state(), bench_.path("kept"), fs::copy_options::recursive);
  ASSERT_EQ(mount("tmpfs", state().c_str(), "tmpfs", 0, "size=256k"), 0);
  fs::copy(bench_.path("kept"), state(), fs::copy_options::recursive);
  std::string command = "head -c 1000000 /dev/zero > '" + state() + "/filler' 2>/dev/null";
  EXPECT_NE(std::system(command.c_str()), 0) << "it should not all fit";
  expect_run("keep");
  EXPECT_EQ(umount2(state().c_str(), MNT_DETACH), 0);
}

TEST_F(BrokenHome, LedgerNotToBeWritten) {
  fs::remove_all(state() + "/ledger.db");
  for (const char* part : {"-wal", "-shm"}) fs::remove(state() + "/ledger.db" + part);
  fs::create_directories(state() + "/ledger.db/not-a-file");
  expect_run("keep this run in the history");
}

TEST_F(BrokenHome, LogNotToBeWritten) {
  fs::remove_all(state() + "/logs");
  write_file(state() + "/logs", "a file in its place");
  expect_run("keep a log");
}

TEST_F(BrokenHome, AMemoryThatDoesNotReadIsReplacedWhereTheDriveIsKnown) {
  write_file(bench_.home().state_file("job"), "{ torn");
  expect_run("read");
  bench_.run_good();
  // Without any set of the job there, an empty mount point cannot be told from a drive: then it is refused.
  write_file(bench_.home().state_file("job"), "{ torn");
  fs::rename(bench_.drive(), bench_.path("away"));
  fs::create_directories(bench_.drive());
  RunOutcome outcome = bench_.run();
  EXPECT_FALSE(outcome.entry.sequence);
  EXPECT_TRUE(fs::is_empty(bench_.drive()));
}

TEST_F(BrokenHome, WhatAKilledCommandLeftIsCleared) {
  std::string left = state() + "/job-state/job.json.0badcafe.tmp";
  write_file(left, "half");
  timespec old[2] = {{1000, 0}, {1000, 0}};
  utimensat(AT_FDCWD, left.c_str(), old, 0);
  std::string fresh = state() + "/job-state/job.json.cafe0bad.tmp";
  write_file(fresh, "somebody is writing it");
  bench_.run_good();
  EXPECT_FALSE(fs::exists(left));
  EXPECT_TRUE(fs::exists(fresh));
}

}  // namespace
}  // namespace kestrum::test
