// Whoever can write the drive: sets of somebody else's among the job's own, older states, downgrades.
// docs/ARCHITECTURE.md, "Who may do what".
#include "support/hostile_drive.hpp"

#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <thread>

#include "archive/set_folder.hpp"
#include "base/exit_codes.hpp"
#include "engine/status.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Two planted sets: a clear one, and a newer one of the same chain that nothing of ours opens. A key that the
// clear one gives away must not become the key of what follows.
TEST_F(HostileDrive, NoPlantedChainIsContinued) {
  ForgedSet clear = forged(3);
  plant(clear);
  ForgedSet newer = clear;
  newer.facts.set = random_id();
  newer.facts.sequence = 4;
  newer.facts.kind = Kind::incremental;
  newer.facts.base = 3;
  newer.facts.needs = {{3, clear.facts.set}};
  newer.facts.needs_follow = true;
  newer.keys = {make_passphrase_entry(clear.master, clear.facts.chain, "the planter's", {8, 1})};
  plant(newer);
  EXPECT_EQ(findings().size(), 2u);

  write_file(bench_.source() + "/ringing.csv", "three");
  Sequence made = bench_.run_good();
  Seal seal = seal_of(made);
  EXPECT_EQ(seal.core.facts.chain, seal_of(1).core.facts.chain) << "the job's own chain goes on";
  EXPECT_FALSE(seal_is_authentic(seal, clear.master));
  EXPECT_EQ(newest_content(), "three");
  // They are somebody else's: there for whoever wants to look into it.
  EXPECT_EQ(findings().size(), 2u);
  EXPECT_EQ(bench_.points(), (std::vector<Sequence>{1, 2, made}));
  EXPECT_FALSE(bench_.verified().good());
  fs::remove_all(bench_.set_folder(3));
  fs::remove_all(bench_.set_folder(4));
  EXPECT_TRUE(bench_.verified().good());
}

TEST_F(HostileDrive, WhatTheOwnerDoesNotOpenIsNotTheNewest) {
  plant(locked(9));
  EXPECT_EQ(newest_content(), "two");
  write_file(bench_.source() + "/ringing.csv", "three");
  Sequence made = bench_.run_good();
  EXPECT_EQ(seal_of(made).core.facts.kind, Kind::incremental);
  EXPECT_EQ(newest_content(), "three");
}

// The entries of a real chain around content of the forger's.
TEST_F(HostileDrive, CopiedKeyEntriesOpenNothingForged) {
  ForgedSet set = forged(3);
  Seal real = seal_of(2);
  set.keys = real.keys;
  set.facts.chain = real.core.facts.chain;
  plant(set);
  EXPECT_EQ(newest_content(), "two");
  write_file(bench_.source() + "/ringing.csv", "three");
  Sequence made = bench_.run_good();
  EXPECT_GT(made, 3);
  EXPECT_EQ(seal_of(made).core.facts.kind, Kind::incremental);
  EXPECT_EQ(newest_content(), "three");
}

// By the seal's word it covers everything that is there.
TEST_F(HostileDrive, AForgedFoldHidesNothing) {
  ForgedSet set = forged(2);
  Seal real = seal_of(2);
  set.keys = real.keys;
  set.facts.chain = real.core.facts.chain;
  set.facts.sequence = 3;
  set.facts.folded_from = 1;
  plant(set);
  EXPECT_EQ(content_of(1), "one");
  EXPECT_EQ(newest_content(), "two");
  write_file(bench_.source() + "/ringing.csv", "three");
  Sequence made = bench_.run_good();
  EXPECT_EQ(content_of(1), "one");
  EXPECT_EQ(content_of(2), "two");
  EXPECT_EQ(content_of(made), "three");
}

// Planted points with the times that the keep rules want must not make the real ones expendable.
TEST_F(HostileDrive, PlantedPointsCountForNothingInPruning) {
  bench_.set_keep("points = \"2 points\"");
  plant(forged(5));
  plant(locked(6));
  ForgedSet copied = forged(7);
  copied.keys = seal_of(2).keys;
  copied.facts.chain = seal_of(2).core.facts.chain;
  plant(copied);
  prune_job("job", false, bench_.context());
  EXPECT_EQ(content_of(1), "one");
  EXPECT_EQ(content_of(2), "two");
  for (Sequence planted : {5, 6, 7}) EXPECT_NE(bench_.set_folder(planted), "") << planted;
}

// The home is lost: what the passphrase opens is the owner's, and nothing else.
TEST_F(HostileDrive, WithoutAMemoryThePassphraseTells) {
  plant(locked(3));
  plant(forged(4));
  fs::remove(bench_.home().state_file("job"));
  EXPECT_EQ(bench_.restored(2).at("ringing.csv").content, "two");
  write_file(bench_.source() + "/ringing.csv", "three");
  Sequence made = bench_.run_good();
  EXPECT_EQ(seal_of(made).core.facts.chain, seal_of(1).core.facts.chain);
  EXPECT_EQ(newest_content(), "three");
}

TEST_F(HostileDrive, AWrongPassphraseBeginsNoChain) {
  settings("not the passphrase\n");
  RunOutcome outcome = bench_.run();
  ASSERT_TRUE(outcome.error);
  EXPECT_EQ(outcome.error->kind(), ErrorKind::key);
  plant(locked(3));
  outcome = bench_.run();
  ASSERT_TRUE(outcome.error);
  EXPECT_EQ(outcome.error->kind(), ErrorKind::key);
}

// Everything encrypted is gone, and a clear set with forged files is there instead.
TEST_F(HostileDrive, NoClearSetStandsInForAnEncryptedOne) {
  for (Sequence real : {1, 2}) fs::remove_all(bench_.set_folder(real));
  ForgedSet set = forged(2);
  plant(set);
  std::string target = folder_ / "back";
  auto kind_of = [](const std::function<void()>& command) {
    try {
      command();
    } catch (const Error& error) {
      return error.kind();
    }
    return ErrorKind::usage;
  };
  EXPECT_EQ(kind_of([&] { bench_.restore_to(target); }), ErrorKind::wrong_drive);
  EXPECT_EQ(kind_of([&] { bench_.restore_to(target, 2); }), ErrorKind::wrong_drive);
  EXPECT_FALSE(fs::exists(target));
  EXPECT_FALSE(bench_.verified().good());
  EXPECT_TRUE(list_points(bench_.subject(), nullptr).points.empty());
  RunOutcome outcome = bench_.run();
  ASSERT_TRUE(outcome.error);
  EXPECT_EQ(outcome.error->kind(), ErrorKind::wrong_drive);
  EXPECT_NE(job_status({"job"}, bench_.context())[0].troubles.size(), 0u);

  LookSession by_path = bench_.subject(bench_.drive());
  EXPECT_NE(by_path.anybody_wrote(), "");
  EXPECT_EQ(by_path.sets().newest()->folder.sequence, 2);
}

TEST_F(HostileDrive, AnOlderStateIsRefusedUntilItIsMeant) {
  fs::copy(bench_.drive(), folder_ / "older", fs::copy_options::recursive);
  write_file(bench_.source() + "/ringing.csv", "three");
  EXPECT_EQ(bench_.run_good(), 3);
  // The drive itself, with what it held two points ago.
  for (const auto& entry : fs::directory_iterator(bench_.drive())) fs::remove_all(entry.path());
  fs::copy(folder_ / "older", bench_.drive(), fs::copy_options::recursive);

  RunOutcome outcome = bench_.run();
  ASSERT_TRUE(outcome.error);
  EXPECT_EQ(outcome.error->kind(), ErrorKind::wrong_drive);
  EXPECT_FALSE(findings().empty());
  EXPECT_EQ(newest_content(), "two") << "what is there comes back all the same";
  bench_.moved = true;
  outcome = bench_.run();
  ASSERT_FALSE(outcome.error) << outcome.error->what();
  EXPECT_EQ(outcome.entry.sequence, 4) << "no number is used twice";
  bench_.moved = false;
  EXPECT_TRUE(findings().empty());
  bench_.run_good();
}

// Authentic sets, but of two pasts: point 2 of before, between points made after the drive was set back.
TEST_F(HostileDrive, AMixOfStatesIsNoticed) {
  std::string second = bench_.set_folder(2);
  std::string kept = folder_ / "second";
  fs::copy(second, kept, fs::copy_options::recursive);
  write_file(bench_.source() + "/ringing.csv", "three");
  bench_.run_good();
  EXPECT_TRUE(findings().empty());
  // Another set in the place of point 2, by the owner's own key: only the order can tell.
  SecretKey master = bench_.subject().keys().unlock(seal_of(1).keys, seal_of(1).core.facts.chain);
  Seal other = seal_of(2);
  other.core.facts.ended.seconds += 1;
  put_seals(*drive(), second.substr(bench_.drive().size() + 1), other, master);
  ASSERT_EQ(findings().size(), 1u);
  RunOutcome outcome = bench_.run();
  ASSERT_TRUE(outcome.error);
  EXPECT_EQ(outcome.error->kind(), ErrorKind::wrong_drive);
  bench_.moved = true;
  ASSERT_FALSE(bench_.run().error);
  bench_.moved = false;
  EXPECT_TRUE(findings().empty());
  bench_.run_good();
}

// Links in the place of the job's folder, a set's folder, a file: none is gone through, by root least of all.
TEST_F(HostileDrive, NoLinkIsFollowed) {
  std::string outside = folder_ / "outside";
  fs::create_directories(outside);
  write_file(outside + "/letter", "not ours");
  chmod(outside.c_str(), 0755);
  std::string job = bench_.drive() + "/" + job_folder();
  fs::rename(job, folder_ / "aside");
  fs::create_directory_symlink(outside, job);
  Snapshot before = take_snapshot(outside);
  RunOutcome outcome = bench_.run();
  EXPECT_TRUE(outcome.error);
  EXPECT_EQ(compare_snapshots(before, take_snapshot(outside)), "") << "written into, or its mode changed";

  fs::remove(job);
  fs::rename(folder_ / "aside", job);
  std::string set = bench_.set_folder(1);
  fs::rename(set, folder_ / "first");
  fs::create_directory_symlink(outside, set);
  bench_.set_keep("points = \"2 points\"");
  bench_.run();
  EXPECT_EQ(compare_snapshots(before, take_snapshot(outside)), "");
}

// Whichever component of a path is a link, last or not.
TEST(LinkRaces, NoCallGoesThroughALink) {
  TempFolder folder;
  write_file(folder / "outside/letter", "not ours");
  write_file(folder / "drive/plain", "ours");
  fs::create_directory_symlink(folder / "outside", folder / "drive/way");
  std::unique_ptr<Store> store = open_local_store(folder / "drive");
  Snapshot before = take_snapshot(folder / "outside");
  auto refused = [](const std::function<void()>& call) {
    try {
      call();
    } catch (const Error&) {
      return true;
    }
    return false;
  };
  EXPECT_TRUE(refused([&] { store->put("way/new", as_bytes("x")); }));
  EXPECT_TRUE(refused([&] { store->put("way/letter", as_bytes("x")); }));
  EXPECT_TRUE(refused([&] { store->create("way/new")->finish(); }));
  EXPECT_TRUE(refused([&] { store->create_exclusive("way/new", as_bytes("x")); }));
  EXPECT_TRUE(refused([&] { store->make_folder("way/folder"); }));
  EXPECT_TRUE(refused([&] { store->rename("plain", "way/plain"); }));
  EXPECT_TRUE(refused([&] { store->rename("way/letter", "letter"); }));
  EXPECT_TRUE(refused([&] { store->read_all("way/letter", 100); }));
  refused([&] { store->remove("way/letter"); });  // to it, that is not there
  refused([&] { store->make_private("way"); });
  EXPECT_EQ(compare_snapshots(before, take_snapshot(folder / "outside")), "");
}

// While a set is removed somebody puts a link to another folder in its place, again and again.
TEST(LinkRaces, NothingOutsideIsRemoved) {
  for (int round = 0; round < 60; ++round) {
    TempFolder folder;
    std::string set = folder / "drive/job/000001_2027-01-01_00-00_full", outside = folder / "outside";
    for (int i = 0; i < 60; ++i) {
      write_file(set + "/data-" + std::to_string(i) + ".kvol", "x");
      write_file(outside + "/data-" + std::to_string(i) + ".kvol", "not ours");
    }
    std::unique_ptr<Store> store = open_local_store(folder / "drive");
    std::atomic<bool> stop{false};
    std::jthread swapper([&] {
      for (const char* mark : {"", ".removing"}) {
        std::string at = set + mark;
        usleep(static_cast<useconds_t>(round * 7));
        if (rename(at.c_str(), (folder / "drive/job/aside").c_str()) != 0) continue;
        if (symlink(outside.c_str(), at.c_str()) != 0) return;
        while (!stop) usleep(50);
        return;
      }
    });
    try {
      remove_set_folder(*store, *parse_set_folder("job", "000001_2027-01-01_00-00_full"));
    } catch (const Error&) {
      // It may say that it could not.
    }
    stop = true;
    swapper.join();
    std::size_t left = 0;
    for (const auto& entry : fs::directory_iterator(outside)) left += entry.is_regular_file() ? 1 : 0;
    ASSERT_EQ(left, 60u) << round;
  }
}

// What is beside the sets, or in their folders, and is none: noted, left alone, in nobody's way.
TEST_F(HostileDrive, ForeignFoldersStopNothing) {
  std::string job = bench_.drive() + "/" + job_folder();
  for (const char* name : {"/lost+found", "/2147483647_x", "/000009_", "/notes"})
    write_file(job + name + "/file", "somebody else's");
  std::string copy = bench_.set_folder(2) + " (copy).unfinished";
  fs::copy(bench_.set_folder(2), copy, fs::copy_options::recursive);
  write_file(bench_.set_folder(1) + "/lost+found/file", "of the drive");
  write_file(bench_.source() + "/ringing.csv", "three");
  EXPECT_EQ(bench_.run_good(), 3);
  EXPECT_EQ(bench_.points(), (std::vector<Sequence>{1, 2, 3}));
  EXPECT_TRUE(bench_.verified().good());
  PointsResult result = list_points(bench_.subject(), nullptr);
  EXPECT_TRUE(result.findings.empty());
  EXPECT_EQ(result.notes.size(), 5u);
  // A set is removed around what is not its own.
  bench_.set_keep("points = \"2 points\"");
  write_file(bench_.source() + "/ringing.csv", "four");
  bench_.run_good(Kind::full);
  bench_.run_good(Kind::full);
  EXPECT_FALSE(bench_.points().empty());
  for (const std::string& kept : {job + "/lost+found/file", job + "/2147483647_x/file", copy + "/seal.json"})
    EXPECT_TRUE(fs::exists(kept)) << kept;
  bool left = false;
  for (const auto& entry : fs::recursive_directory_iterator(job))
    left = left || (entry.path().filename() == "file" && read_file(entry.path()) == "of the drive");
  EXPECT_TRUE(left);
  EXPECT_EQ(bench_.run().entry.result, RunResult::done);
}

// A job that was clear before: its points stay and count, under a naming key that nothing encrypted uses.
TEST(EncryptionTurnedOn, OldPointsStayAndANewNamingKeyBegins) {
  Workbench bench;
  write_file(bench.source() + "/ringing.csv", "clear");
  bench.run_good();
  std::string text = bench.home().load_job("job").text;
  TempFolder folder;
  write_file(folder / "pass", "tern in the fog\n");
  chmod((folder / "pass").c_str(), 0600);
  SecretKey before = *bench.home().load_state("job")->naming;
  bench.set_job(text.substr(0, text.find("[protect]")) +
                "[protect]\npassphrase = \"file:" + (folder / "pass") + "\"\n");
  write_file(bench.source() + "/ringing.csv", "closed");
  EXPECT_EQ(bench.run_good(), 2);
  SecretKey after = *bench.home().load_state("job")->naming;
  EXPECT_NE(to_bytes(before.view()), to_bytes(after.view()));
  EXPECT_EQ(bench.points(), (std::vector<Sequence>{1, 2}));
  EXPECT_EQ(bench.restored(1).at("ringing.csv").content, "clear");
  EXPECT_EQ(bench.restored(2).at("ringing.csv").content, "closed");
  EXPECT_TRUE(bench.verified().good());
  write_file(bench.source() + "/ringing.csv", "again");
  EXPECT_EQ(bench.run_good(), 3);
  EXPECT_EQ(bench.restored(3).at("ringing.csv").content, "again");

  // A clear set after the first encrypted one is from nobody, whatever key it carries.
  Seal first =
      seal_in(*open_local_store(bench.drive()), bench.set_folder(1).substr(bench.drive().size() + 1));
  ForgedSet late;
  late.job = first.core.job;
  late.master = first.keys[0].clear_key;
  late.keys = first.keys;
  late.facts.chain = first.core.facts.chain;
  late.facts.sequence = 4;
  forge(*open_local_store(bench.drive()), bench.subject().folder(), late);
  EXPECT_EQ(bench.points(), (std::vector<Sequence>{1, 2, 3}));
  late.facts.sequence = 1;
  late.facts.set = random_id();
  late.folder = "000001_0000-00-00_00-00_full";
  forge(*open_local_store(bench.drive()), bench.subject().folder(), late);
  EXPECT_EQ(bench.points(), (std::vector<Sequence>{1, 2, 3}));
  EXPECT_EQ(bench.restored(1).at("ringing.csv").content, "clear");
}

// Off for a time, and on again: what was made here meanwhile counts, and a chain begins at each turn.
TEST(EncryptionTurnedOn, WhatWasMadeHereWhileItWasOffCounts) {
  TempFolder folder;
  write_file(folder / "pass", "tern in the fog\n");
  chmod((folder / "pass").c_str(), 0600);
  Workbench bench("");
  const std::string text = bench.home().load_job("job").text;
  const std::string on = text + "[protect]\npassphrase = \"file:" + (folder / "pass") + "\"\n";
  const std::string off = text + "[protect]\nencryption = \"none\"\n";
  int content = 0;
  for (const std::string& job : {on, off, on}) {
    bench.set_job(job);
    write_file(bench.source() + "/ringing.csv", std::to_string(++content));
    const RunOutcome outcome = bench.run();
    ASSERT_EQ(outcome.entry.sequence, static_cast<Sequence>(content)) << outcome.entry.message;
    EXPECT_EQ(outcome.entry.kind, Kind::full);
  }
  EXPECT_EQ(bench.points(), (std::vector<Sequence>{1, 2, 3}));
  for (Sequence point : {1, 2, 3})
    EXPECT_EQ(bench.restored(point).at("ringing.csv").content, std::to_string(point));
  EXPECT_TRUE(bench.verified().good());
}

}  // namespace
}  // namespace kestrum::test
