// Ways in, added, changed and taken away: whatever happens meanwhile, what opened everything before still
// does, or what is to open it does.
#include "engine/ways_in.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "engine/leftover_use.hpp"
#include "engine/way_proof.hpp"
#include "support/set_back.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;

// An encrypted job with two chains and a point that is not finished.
class WaysIn : public testing::Test {
 protected:
  WaysIn() {
    for (const char* name : {"first", "second", "third"}) {
      write_file(bench_.path(name), std::string("tern in the fog, ") + name + "\n");
      std::filesystem::permissions(bench_.path(name), std::filesystem::perms::owner_read);
    }
    bench_.set_job(bench_.home().load_job("job").text +
                   "[how]\nrenew = \"every 2 sets\"\n[protect]\npassphrase = \"" + source("first") +
                   "\"\n[keep]\npoints = \"100 points\"\n");
    bench_.settle_files();
    bench_.journal_step = 20000;
  }
  std::string source(const std::string& name) const { return "file:" + bench_.path(name); }
  SecretText phrase(const std::string& name) const { return *get_passphrase(source(name), "", {}); }

  void make_points(unsigned points = 3) {
    for (unsigned i = 0; i < points; ++i) {
      write_file(bench_.source() + "/list-" + std::to_string(i), noise(i, 3000));
      const Sequence point = bench_.run_good();
      snapshots_[point] = take_snapshot(bench_.source());
    }
  }
  void leave_one_unfinished() {
    for (unsigned i = 0; i < 20; ++i)
      write_file(bench_.source() + "/more-" + std::to_string(i), noise(100 + i, 20000));
    ASSERT_FALSE(bench_.run_stopped_at(200000).entry.sequence);
    // Where files only appear whole nothing is left of so short a run.
    if (bench_.subject().store().traits().appends) {
      ASSERT_TRUE(left_point(bench_.subject()));
    }
  }

  // How many of the points on the drive that passphrase opens, without the home's help.
  std::uint64_t opened_by(const std::string& name) const {
    SubjectOptions options;
    options.subject = bench_.drive();
    options.passphrase = source(name);
    return opened(options);
  }
  std::uint64_t opened_by(const RecoveryKey& key) const {
    SubjectOptions options;
    options.subject = bench_.drive();
    options.recovery_key = key;
    return opened(options);
  }
  static std::uint64_t opened(const SubjectOptions& options) {
    LookSession session = LookSession::open(nullptr, options);
    std::uint64_t count = 0;
    for (const WayTest::Chain& chain : test_way(session).chains) count += chain.unfinished ? 0 : chain.opened;
    return count;
  }
  bool left_opens(const std::string& name) const {
    const std::optional<Leftover> left = leftover_of(bench_.subject());
    if (!left) return false;
    KeyRing ring([&] { return phrase(name); });
    try {
      ring.unlock(left->mark.keys, left->mark.chain);
      return true;
    } catch (const Error&) {
      return false;
    }
  }
  void expect_points_as_they_were(const std::string& what) {
    for (const auto& [point, snapshot] : snapshots_)
      EXPECT_EQ(compare_snapshots(snapshot, bench_.restored(point)), "") << what << ", point " << point;
  }
  std::map<std::string, std::string> seals() const {
    std::map<std::string, std::string> out;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(bench_.drive())) {
      if (entry.path().extension() == ".json") out[entry.path()] = read_file(entry.path());
    }
    return out;
  }
  ErrorKind refused(const std::function<void()>& what) const {
    const std::map<std::string, std::string> before = seals();
    const std::string job = bench_.home().load_job("job").text;
    try {
      what();
    } catch (const Error& error) {
      EXPECT_EQ(seals(), before);
      EXPECT_EQ(bench_.home().load_job("job").text, job);
      return error.kind();
    }
    ADD_FAILURE() << "it was not refused";
    return ErrorKind::failed;
  }

  Workbench bench_{""};
  std::map<Sequence, Snapshot> snapshots_;
};

TEST_F(WaysIn, ANewPassphraseOpensAllAndTheOldNothing) {
  make_points();
  leave_one_unfinished();
  const WaysOutcome outcome = change_passphrase("job", {.new_source = source("second")}, bench_.context());
  ASSERT_EQ(outcome.drives.size(), 1u);
  EXPECT_EQ(outcome.drives[0].points, 3u);
  EXPECT_TRUE(outcome.drives[0].unfinished);
  EXPECT_TRUE(outcome.job_changed);
  EXPECT_EQ(bench_.home().load_job("job").passphrase, source("second"));
  EXPECT_EQ(opened_by("first"), 0u);
  EXPECT_EQ(opened_by("second"), 3u);
  EXPECT_FALSE(left_opens("first"));
  EXPECT_TRUE(left_opens("second"));
  EXPECT_TRUE(bench_.verified().good());
  expect_points_as_they_were("after the change");
  // The run goes on with what is there, and reads the rest only.
  const RunOutcome next = bench_.run();
  ASSERT_TRUE(next.entry.sequence) << next.entry.message;
  EXPECT_LT(next.entry.totals.read_bytes, 300000u);
  EXPECT_EQ(opened_by("second"), 4u);
}

TEST_F(WaysIn, OneSaltServesAllChains) {
  make_points(5);
  change_passphrase("job", {.new_source = source("second")}, bench_.context());
  std::set<Bytes> salts;
  std::set<Id> chains;
  for (const FoundSet& set : bench_.subject().sets()) {
    chains.insert(set.facts().chain);
    for (const KeyEntry& entry : set.seal->keys) salts.insert(entry.salt);
    EXPECT_EQ(set.seal->keys.size(), 1u);
  }
  EXPECT_GT(chains.size(), 1u);
  EXPECT_EQ(salts.size(), 1u);
}

TEST_F(WaysIn, NothingIsChangedByAWrongPassphrase) {
  make_points();
  EXPECT_EQ(refused([&] {
              change_passphrase("job", {.old_source = source("third"), .new_source = source("second")},
                                bench_.context());
            }),
            ErrorKind::key);
  EXPECT_EQ(refused([&] { change_passphrase("job", {.new_source = source("first")}, bench_.context()); }),
            ErrorKind::usage);
  EXPECT_EQ(refused([&] { change_passphrase("job", {}, bench_.context()); }), ErrorKind::usage);
  // What the job names opens everything already: there is nothing to be completed.
  EXPECT_EQ(change_passphrase("job", {.old_source = source("third")}, bench_.context()).changed(), 0u);
  EXPECT_EQ(refused([&] { remove_passphrase("job", source("first"), bench_.context()); }), ErrorKind::usage);
  EXPECT_EQ(refused([&] { add_passphrase("job", source("first"), bench_.context()); }), ErrorKind::usage);
}

TEST_F(WaysIn, ASecondPassphraseComesAndGoes) {
  make_points();
  leave_one_unfinished();
  EXPECT_EQ(add_passphrase("job", source("second"), bench_.context()).drives[0].changed, 3u);
  EXPECT_EQ(opened_by("first"), 3u);
  EXPECT_EQ(opened_by("second"), 3u);
  EXPECT_TRUE(left_opens("first") && left_opens("second"));
  EXPECT_EQ(add_passphrase("job", source("second"), bench_.context()).changed(), 0u);
  // What the other one opens is not touched by a change of the job's own.
  change_passphrase("job", {.new_source = source("third")}, bench_.context());
  EXPECT_EQ(opened_by("second"), 3u);
  EXPECT_EQ(opened_by("first"), 0u);
  EXPECT_EQ(remove_passphrase("job", source("second"), bench_.context()).drives[0].changed, 3u);
  EXPECT_EQ(opened_by("second"), 0u);
  EXPECT_EQ(opened_by("third"), 3u);
  EXPECT_FALSE(left_opens("second"));
  expect_points_as_they_were("with the third");
}

TEST_F(WaysIn, ARecoveryKeyComesAndGoes) {
  make_points();
  leave_one_unfinished();
  const RecoveryKey key = make_recovery_key();
  write_file(bench_.path("office.pub"), recovery_public_text(key.open));
  EXPECT_EQ(opened_by(key), 0u);
  const WaysOutcome added = add_recovery_key("job", bench_.path("office.pub"), bench_.context());
  EXPECT_EQ(added.drives[0].changed, 3u);
  EXPECT_EQ(bench_.home().load_job("job").recovery_keys, std::vector{bench_.path("office.pub")});
  EXPECT_EQ(opened_by(key), 3u);
  // Also what comes: the point that is not finished, and the next chain.
  ASSERT_TRUE(bench_.run().entry.sequence);
  ASSERT_TRUE(bench_.run(Kind::full).entry.sequence);
  EXPECT_EQ(opened_by(key), 5u);
  const WaysOutcome removed = remove_recovery_key("job", bench_.path("office.pub"), bench_.context());
  EXPECT_EQ(removed.drives[0].changed, 5u);
  EXPECT_TRUE(bench_.home().load_job("job").recovery_keys.empty());
  EXPECT_EQ(opened_by(key), 0u);
  EXPECT_EQ(opened_by("first"), 5u);
}

TEST_F(WaysIn, ALostPassphraseIsReplacedByARecoveryKey) {
  const RecoveryKey key = make_recovery_key();
  write_file(bench_.path("office.pub"), recovery_public_text(key.open));
  make_points();
  add_recovery_key("job", bench_.path("office.pub"), bench_.context());
  std::filesystem::remove(bench_.path("first"));
  const WaysOutcome outcome =
      change_passphrase("job", {.new_source = source("second"), .old_key = key}, bench_.context());
  EXPECT_EQ(outcome.drives[0].points, 3u);
  EXPECT_EQ(opened_by("second"), 3u);
  EXPECT_EQ(opened_by(key), 3u);
  for (const FoundSet& set : bench_.subject().sets()) EXPECT_EQ(set.seal->keys.size(), 2u);
  ASSERT_TRUE(bench_.run().entry.sequence);
}

// By a recovery key anybody may have sealed a set: only what this machine knows gets a passphrase that would
// make it count.
TEST_F(WaysIn, ARecoveryKeyVouchesForNoChainThatThisMachineDoesNotKnow) {
  const RecoveryKey key = make_recovery_key();
  write_file(bench_.path("office.pub"), recovery_public_text(key.open));
  make_points();
  add_recovery_key("job", bench_.path("office.pub"), bench_.context());
  JobState state = bench_.home().load_state("job").value();
  const Id newest = bench_.subject().sets().newest()->facts().chain;
  state.chain_keys.erase(newest);
  bench_.home().save_state("job", state);
  SubjectOptions by_key;
  by_key.subject = "job";
  by_key.recovery_key = key;
  LookSession session = LookSession::open(&bench_.home(), by_key);
  for (const FoundSet& set : session.proved_sets()) EXPECT_TRUE(!set.sealed() || set.facts().chain != newest);
  change_passphrase("job", {.new_source = source("second"), .old_key = key}, bench_.context());
  EXPECT_FALSE(bench_.home().load_state("job").value().chain_keys.contains(newest));
  for (const FoundSet& set : bench_.subject(bench_.drive()).sets()) {
    if (!set.sealed()) continue;
    KeyRing ring([&] { return phrase("second"); });
    if (set.facts().chain == newest) {
      EXPECT_THROW(ring.unlock(set.seal->keys, newest), Error);
    } else {
      EXPECT_NO_THROW(ring.unlock(set.seal->keys, set.facts().chain));
    }
  }
}

TEST_F(WaysIn, NorWhereThisMachineKnowsNone) {
  const RecoveryKey key = make_recovery_key();
  write_file(bench_.path("office.pub"), recovery_public_text(key.open));
  make_points();
  add_recovery_key("job", bench_.path("office.pub"), bench_.context());
  JobState state = bench_.home().load_state("job").value();
  state.chain_keys.clear();
  bench_.home().save_state("job", state);
  EXPECT_EQ(
      change_passphrase("job", {.new_source = source("second"), .old_key = key}, bench_.context()).changed(),
      0u);
  EXPECT_TRUE(bench_.home().load_state("job").value().chain_keys.empty());
  EXPECT_EQ(opened_by("second"), 0u);
}

TEST_F(WaysIn, WhatAnotherVersionAddedToASealStays) {
  make_points(1);
  const FoundSet set = bench_.subject().sets()[0];
  KeyRing ring([&] { return phrase("first"); });
  const SecretKey master = ring.unlock(set.seal->keys, set.facts().chain);
  Seal seal = *set.seal;
  std::string text(seal.checked.text(1));
  text.insert(text.find("\"keys\":[") + 8, "{\"id\":\"0011223344556677\",\"type\":\"stone\",\"weight\":3},");
  text.insert(1, "\"of-later\":true,");
  Seal changed = decode_seal(to_bytes(rekey_seal(seal, seal.keys, master)), "it");
  EXPECT_TRUE(same_entry(changed.keys.at(0), seal.keys.at(0)));
  // As a newer version may have written it: only the text of the envelope matters here.
  seal = decode_seal(
      to_bytes(write_checked_json({{"core", std::string(seal.checked.text(0))}, {"envelope", text}},
                                  [](const std::string&, ByteView) { return Digest{}; })),
      "it");
  KeyEntry more = make_passphrase_entry(master, set.facts().chain, "puffin", {8, 1});
  const std::string now = rekey_seal(seal, {more}, master);
  EXPECT_THAT(now, HasSubstr("\"type\":\"stone\",\"weight\":3"));
  EXPECT_THAT(now, HasSubstr("\"of-later\":true"));
  const Seal read = decode_seal(to_bytes(now), "it");
  ASSERT_EQ(read.keys.size(), 1u);
  EXPECT_TRUE(same_entry(read.keys[0], more));
  EXPECT_TRUE(seal_is_authentic(read, master));
}

TEST_F(WaysIn, AProofIsKeptByDriveAndWay) {
  const Home& home = bench_.home();
  const Id tern{1}, skua{2};
  const RecoveryPublic part{7};
  EXPECT_TRUE(load_way_proofs(home, "job").empty());
  keep_way_proof(home, "job", {tern, {}, {1000, 0}});
  keep_way_proof(home, "job", {tern, part, {2000, 0}});
  keep_way_proof(home, "job", {tern, {}, {1500, 0}});
  EXPECT_EQ(load_way_proofs(home, "job").size(), 2u);
  EXPECT_EQ(last_way_proof(load_way_proofs(home, "job"), tern).value().seconds, 2000);
  EXPECT_FALSE(last_way_proof(load_way_proofs(home, "job"), skua));
  forget_way_proofs(home, "job", tern, part);
  EXPECT_EQ(last_way_proof(load_way_proofs(home, "job"), tern).value().seconds, 1500);
  write_file(home.way_file("job"), "nonsense");
  EXPECT_TRUE(load_way_proofs(home, "job").empty());
}

// Seals of before, put back over the changed ones by whoever can write the drive.
TEST_F(WaysIn, AnOldSealThatIsPutBackIsReadByItsChain) {
  make_points(2);
  const std::map<std::string, std::string> before = seals();
  change_passphrase("job", {.new_source = source("second")}, bench_.context());
  for (const auto& [path, text] : before) {
    if (path.find("000001_") != std::string::npos) write_file(path, text);
  }
  expect_points_as_they_were("after seals of before were put back");
  EXPECT_TRUE(bench_.verified().good());
  EXPECT_TRUE(bench_.run_good());
  EXPECT_EQ(old_way(bench_.subject()).points, 0u) << "one entry each";
}

TEST_F(WaysIn, WhatAsksForMoreIsRaisedWithThePassphrase) {
  make_points(2);
  std::string text = bench_.home().load_job("job").text;
  text.insert(text.find("passphrase = "), "passphrase-memory = \"65 MiB\"\n");
  bench_.set_job(text);
  change_passphrase("job", {.new_source = source("second")}, bench_.context());
  for (const FoundSet& set : bench_.subject().sets()) {
    ASSERT_EQ(set.seal->keys.size(), 1u);
    EXPECT_EQ(set.seal->keys[0].cost.memory_kib, 65u * 1024);
  }
  EXPECT_EQ(opened_by("first"), 0u);
  expect_points_as_they_were("with a higher cost");
}

// All that is there yet is a point that no run has finished.
TEST_F(WaysIn, AnUnfinishedPointIsTriedToo) {
  write_file(bench_.source() + "/list", noise(1, 1000));
  leave_one_unfinished();
  for (const char* name : {"first", "second"}) {
    SubjectOptions options;
    options.subject = "job";
    options.passphrase = source(name);
    LookSession session = LookSession::open(&bench_.home(), options);
    const WayTest test = test_way(session);
    EXPECT_TRUE(test.encrypted);
    ASSERT_EQ(test.chains.size(), 1u);
    EXPECT_TRUE(test.chains[0].unfinished);
    EXPECT_EQ(test.everything(), std::string(name) == "first");
  }
}

// A file that cannot be read is told as that, however often it is asked for.
TEST_F(WaysIn, APassphraseFileThatCannotBeReadIsNoMissingPassphrase) {
  make_points(2);
  std::filesystem::remove(bench_.path("first"));
  const RunOutcome outcome = bench_.run();
  ASSERT_TRUE(outcome.error);
  EXPECT_EQ(outcome.error->kind(), ErrorKind::key);
  EXPECT_THAT(outcome.error->what(), HasSubstr(bench_.path("first")));
}

struct WayFault {
  const char* name;
  bool for_ever;
  bool objects;
  bool reads;
};
class WayFaults : public WaysIn, public testing::WithParamInterface<WayFault> {};

TEST_P(WayFaults, LeaveAWayInToEverything) {
  std::optional<UseObjects> objects;
  if (GetParam().objects) {
    objects.emplace();
    bench_.open_store = usual_store;
  }
  make_points();
  leave_one_unfinished();
  const std::string kept = bench_.path("kept"), state = bench_.home().state_file("job");
  std::filesystem::copy(bench_.drive(), kept, std::filesystem::copy_options::recursive);
  const std::string remembered = read_file(state), job = bench_.home().load_job("job").text;
  bool got_through = false;
  std::uint64_t swept = 0;
  for (std::uint64_t n = 1; !got_through && !HasFailure(); ++n) {
    ASSERT_LT(n, 2000u);
    ++swept;
    auto fault = std::make_shared<FaultStore::State>();
    fault->fault = {n, GetParam().for_ever, EIO, false, GetParam().reads};
    bench_.open_store = [&](const std::string& root) {
      return std::make_unique<FaultStore>(usual_store(root), fault);
    };
    std::string said;
    try {
      change_passphrase("job", {.new_source = source("second")}, bench_.context());
    } catch (const Error& error) {
      said = error.what();
    }
    bench_.open_store = usual_store;
    got_through = fault->done < n;
    // What the job's file names opens everything there, now and for the next run.
    const bool switched = bench_.home().load_job("job").passphrase == source("second");
    EXPECT_EQ(opened_by(switched ? "second" : "first"), 3u) << n << ": " << said;
    EXPECT_TRUE(GetParam().objects || left_opens(switched ? "second" : "first")) << n << ": " << said;
    EXPECT_TRUE(bench_.verified(n % 5 == 0 ? Depth::all : Depth::quick).good()) << n << ": " << said;
    if (n % 7 == 0) expect_points_as_they_were("fault " + std::to_string(n));
    // Where it was broken off the old way still opens something, and that is said.
    const OldWay left = old_way(bench_.subject());
    if (switched) {
      EXPECT_EQ(left.points > 0, opened_by("first") > 0) << n << ": " << said;
    }
    // The same again completes it, whatever the job's file says by now.
    PassphraseChange again{.new_source = source("second")};
    if (got_through || said.empty()) again.old_source = source("first");  // it came to its end
    EXPECT_NO_THROW(change_passphrase("job", again, bench_.context())) << n;
    EXPECT_EQ(old_way(bench_.subject()).points, 0u) << n;
    EXPECT_EQ(opened_by("first"), 0u) << n;
    EXPECT_EQ(opened_by("second"), 3u) << n;
    EXPECT_TRUE(GetParam().objects || (left_opens("second") && !left_opens("first"))) << n;
    std::filesystem::remove_all(bench_.drive());
    std::filesystem::copy(kept, bench_.drive(), std::filesystem::copy_options::recursive);
    write_file(state, remembered);
    forget_history(bench_.home());
    bench_.set_job(job);
  }
  std::printf("%s: %llu moments\n", GetParam().name, static_cast<unsigned long long>(swept));
}

INSTANTIATE_TEST_SUITE_P(Ways, WayFaults,
                         testing::Values(WayFault{"once", false, false, false},
                                         WayFault{"for_ever", true, false, false},
                                         WayFault{"objects_once", false, true, false},
                                         WayFault{"objects_for_ever", true, true, false},
                                         WayFault{"reads_once", false, false, true},
                                         WayFault{"reads_for_ever", true, false, true}),
                         [](const auto& way) { return way.param.name; });

}  // namespace
}  // namespace kestrum::test
