// A run that was broken off, and the next one that goes on with it: nothing finished is read again, nothing
// that changed meanwhile or does not authenticate is taken for good, and nobody else's leftover is taken at
// all.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <chrono>
#include <thread>

#include "base/exit_codes.hpp"
#include "engine/leftover_use.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;

// Remembers what it was told.
struct Listener final : Observer {
  void note(const std::string& text) override { said += text + "\n"; }
  std::string said;
};

const char* const plain = "[how]\nvolume-size = \"256 KiB\"\n[protect]\nencryption = \"none\"\n";

class Leftovers : public testing::TestWithParam<bool> {
 protected:
  static constexpr unsigned files = 100;
  static constexpr std::uint64_t each = 20000, all = files * each;

  void SetUp() override {
    if (GetParam()) objects_.emplace();
    bench_.emplace(plain);
    bench_->settle_files();
    bench_->journal_step = 50000;
    bench_->observer = &listener_;
    write_file(bench_->source() + "/a", "the first");
    bench_->run_good();
    for (unsigned i = 0; i < files; ++i) write_file(count(i), noise(i, each));
  }
  std::string count(unsigned number) const {
    char name[64];
    std::snprintf(name, sizeof name, "/counts/%u/count-%03u", number / 10, number);
    return bench_->source() + name;
  }
  void break_off(std::uint64_t at = all / 2) {
    const RunOutcome broken = bench_->run_stopped_at(at);
    ASSERT_FALSE(broken.entry.sequence);
    ASSERT_EQ(broken.entry.result, RunResult::stopped);
    // What a listing shows late is only gone on with once it is shown.
    if (GetParam()) std::this_thread::sleep_for(std::chrono::milliseconds(300));
    ASSERT_TRUE(left_point(bench_->subject()));
  }
  // Runs to the end, and all of it is as it is now. Gives the bytes that were read.
  std::uint64_t finish(std::optional<Sequence> number = 2) {
    const RunOutcome done = bench_->run();
    EXPECT_EQ(done.entry.result, RunResult::done) << done.entry.message;
    const Sequence expected = number.value_or(done.entry.sequence.value_or(0));
    EXPECT_EQ(done.entry.sequence, expected);
    EXPECT_EQ(compare_snapshots(take_snapshot(bench_->source()), bench_->restored(expected)), "");
    for (const PointVerdict& point : bench_->verified().points) EXPECT_TRUE(point.good()) << point.sequence;
    EXPECT_FALSE(left_point(bench_->subject()));
    return done.entry.totals.read_bytes;
  }
  std::optional<UseObjects> objects_;
  Listener listener_;
  std::optional<Workbench> bench_;
};

// Where what lies there are files of this machine.
class FolderLeftovers : public Leftovers {};

TEST_P(Leftovers, WhatIsFinishedIsNotReadAgain) {
  break_off();
  const std::optional<LeftPoint> left = left_point(bench_->subject());
  EXPECT_EQ(left->sequence, 2u);
  EXPECT_GT(left->bytes, all / 4);
  const std::uint64_t read = finish();
  EXPECT_LE(read, all / 2 + 2 * each) << "of what was finished, next to nothing";
  EXPECT_GE(read, all / 2 - 2 * each);
  EXPECT_THAT(listener_.said, HasSubstr("going on with what was left of point 2"));
}

TEST_P(Leftovers, WhatChangedMeanwhileIsReadAgain) {
  break_off();
  write_file(count(1), noise(1000, each));  // of the same size
  fs::remove(count(2));
  fs::rename(count(3), count(3) + "-renamed");
  fs::rename(count(4), count(5));  // another file under that name
  write_file(bench_->source() + "/counts/0/between", "new");
  chmod(count(6).c_str(), 0400);
  const std::uint64_t read = finish();
  EXPECT_LE(read, all / 2 + 7 * each);
}

TEST_P(Leftovers, BrokenOffAgainAndAgain) {
  std::uint64_t read = 0;
  int times = 0;
  for (std::uint64_t at = all / 12; at < all; at += all / 12, ++times) {
    const RunOutcome broken = bench_->run_stopped_at(at);
    ASSERT_FALSE(broken.entry.sequence) << times;
    if (GetParam()) std::this_thread::sleep_for(std::chrono::milliseconds(300));
    write_file(count(static_cast<unsigned>(times) * 3), noise(2000u + static_cast<unsigned>(times), each));
  }
  EXPECT_GE(times, 10);
  // Of what had no whole file yet, a store for objects holds nothing, and the number was used up.
  read = finish(GetParam() ? std::nullopt : std::optional<Sequence>(2));
  EXPECT_LE(read, all / 12 + (GetParam() ? 32 : 16) * each) << "what was left, and what changed";
  // And the one after it has nothing to do with all that.
  write_file(count(7), "the last");
  EXPECT_LE(finish({}), 2 * each);
}

// Whatever befell it: one byte, its end, a volume in the middle.
TEST_P(FolderLeftovers, WhatDoesNotAuthenticateIsWrittenAnew) {
  break_off();
  const std::string drive = bench_->drive(), copy = bench_->path("copy"), home = bench_->path("home");
  fs::create_directories(copy);
  fs::copy(drive, copy + "/drive", fs::copy_options::recursive);
  fs::copy(home, copy + "/home", fs::copy_options::recursive);
  std::mt19937 random(18);
  std::uint64_t most = 0;
  for (int round = 0; round < 60; ++round) {
    fs::remove_all(drive);
    fs::remove_all(home);
    fs::copy(copy + "/drive", drive, fs::copy_options::recursive);
    fs::copy(copy + "/home", home, fs::copy_options::recursive);
    std::vector<std::string> volumes;
    for (const auto& one : fs::recursive_directory_iterator(drive)) {
      const std::string path = one.path();
      if (path.find(".unfinished/data-") != std::string::npos) volumes.push_back(path);
    }
    ASSERT_GE(volumes.size(), 3u);
    const std::string& victim = volumes[random() % volumes.size()];
    std::string content = read_file(victim);
    const std::size_t at = random() % content.size();
    if (round % 4 == 3) {
      fs::remove(victim);
    } else {
      if (round % 4 == 0) content[at] = static_cast<char>(content[at] ^ (1 << (random() % 8)));
      if (round % 4 == 1) content.resize(at);
      if (round % 4 == 2) std::fill(content.begin() + static_cast<std::ptrdiff_t>(at), content.end(), '\0');
      write_file(victim, content);
    }
    SCOPED_TRACE(testing::Message() << "round " << round << ", " << victim << " at " << at);
    most = std::max(most, finish());
    if (HasFailure()) return;
  }
  EXPECT_GT(most, all / 2 + 4 * each) << "what was spoilt was read again";
}

TEST_P(Leftovers, AnotherPointIsNotMadeOfIt) {
  break_off();
  // A full one, in place of the incremental one that was begun.
  const RunOutcome full = bench_->run(Kind::full);
  EXPECT_EQ(full.entry.totals.read_bytes, all + 9);
  EXPECT_THAT(listener_.said, HasSubstr("the next point does not build on the same one"));
  EXPECT_EQ(compare_snapshots(take_snapshot(bench_->source()), bench_->restored(*full.entry.sequence)), "");
}

TEST_P(Leftovers, NobodyWaitsForItForEver) {
  break_off();
  struct Later final : Clock {
    Instant now() const override { return {SystemClock().now().seconds + std::int64_t{31} * 86400, 0}; }
  } later;
  bench_->clock = &later;
  const RunOutcome done = bench_->run();
  EXPECT_EQ(done.entry.totals.read_bytes, all);
  EXPECT_THAT(listener_.said, HasSubstr("which is too long ago"));
}

TEST_P(Leftovers, IsClearedWhenAsked) {
  break_off();
  const std::vector<Leftover> cleared = discard_leftovers("job", bench_->context());
  ASSERT_EQ(cleared.size(), 1u);
  EXPECT_EQ(cleared[0].mark.sequence, 2u);
  EXPECT_FALSE(left_point(bench_->subject()));
  EXPECT_TRUE(discard_leftovers("job", bench_->context()).empty());
}

// Pruning and folding let it lie, and count it.
TEST_P(Leftovers, CountsAndStaysWhileOthersAreTidiedUp) {
  break_off();
  const std::optional<LeftPoint> left = left_point(bench_->subject());
  prune_job("job", false, bench_->context());
  EXPECT_EQ(left_point(bench_->subject())->bytes, left->bytes);
  History history = History::open(bench_->context());
  EXPECT_EQ(keep_question(bench_->subject(), history, bench_->context(), 0).beside, left->bytes);
  EXPECT_LE(finish(), all / 2 + 2 * each);
}

INSTANTIATE_TEST_SUITE_P(Store, FolderLeftovers, testing::Values(false));
INSTANTIATE_TEST_SUITE_P(Stores, Leftovers, testing::Bool(),
                         [](const auto& how) { return how.param ? "objects" : "folders"; });

// In an encrypted job.
class LockedLeftovers : public testing::Test {
 protected:
  LockedLeftovers() {
    write_file(bench_.path("pass"), "tern in the fog\n");
    chmod(bench_.path("pass").c_str(), 0600);
    set_job("aes-256-gcm", "file:" + bench_.path("pass"));
    bench_.settle_files();
    bench_.journal_step = 50000;
    bench_.observer = &listener_;
    for (unsigned i = 0; i < 50; ++i) write_file(bench_.source() + "/" + std::to_string(i), noise(i, 20000));
  }
  void set_job(const std::string& encryption, const std::string& passphrase) {
    std::string text = bench_.home().load_job("job").text;
    text = text.substr(0, text.find("[protect]"));
    text += "[protect]\nencryption = \"" + encryption + "\"\n";
    if (!passphrase.empty()) text += "passphrase = \"" + passphrase + "\"\n";
    bench_.set_job(text);
  }
  std::uint64_t read_by_next_run() {
    const RunOutcome done = bench_.run();
    EXPECT_TRUE(done.entry.sequence) << done.entry.message;
    if (done.entry.sequence) {
      EXPECT_EQ(compare_snapshots(take_snapshot(bench_.source()), bench_.restored(*done.entry.sequence)), "");
    }
    return done.entry.totals.read_bytes;
  }
  static constexpr std::uint64_t all = 50 * 20000;
  Listener listener_;
  Workbench bench_;
};

TEST_F(LockedLeftovers, TheFirstSetGoesOnUnderItsKey) {
  ASSERT_FALSE(bench_.run_stopped_at(all / 2).entry.sequence);
  EXPECT_LE(read_by_next_run(), all / 2 + 40000);
  EXPECT_THAT(listener_.said, HasSubstr("going on with what was left of point 1"));
}

TEST_F(LockedLeftovers, NotWithoutEncryptionWhereThereWasSome) {
  ASSERT_FALSE(bench_.run_stopped_at(all / 2).entry.sequence);
  set_job("none", "");
  EXPECT_EQ(read_by_next_run(), all);
  EXPECT_THAT(listener_.said, HasSubstr("it is not encrypted as the job is now"));
}

TEST_F(LockedLeftovers, NotThatOfSomebodyElse) {
  // Begun without encryption, by whoever may write the drive.
  set_job("none", "");
  ASSERT_FALSE(bench_.run_stopped_at(all / 2).entry.sequence);
  set_job("aes-256-gcm", "file:" + bench_.path("pass"));
  EXPECT_EQ(read_by_next_run(), all);
}

TEST_F(LockedLeftovers, NotWithAKeyThatThisMachineDoesNotKnow) {
  ASSERT_FALSE(bench_.run_stopped_at(all / 2).entry.sequence);
  JobState state = bench_.home().load_state("job").value();
  state.chain_keys.clear();
  bench_.home().save_state("job", state);
  EXPECT_EQ(read_by_next_run(), all);
  EXPECT_THAT(listener_.said, HasSubstr("this machine does not know its key"));
}

TEST_F(LockedLeftovers, NotWithAnotherPassphrase) {
  ASSERT_FALSE(bench_.run_stopped_at(all / 2).entry.sequence);
  write_file(bench_.path("pass"), "auk on the rock\n");
  // It may be a slip of the finger, and what is there the work of days.
  const RunOutcome refused = bench_.run();
  EXPECT_EQ(refused.entry.exit_code, exit_code_of(ErrorKind::key));
  EXPECT_THAT(refused.entry.message, HasSubstr("which is not finished"));
  bench_.new_passphrase = true;
  EXPECT_EQ(read_by_next_run(), all);
  EXPECT_THAT(listener_.said, HasSubstr("the job's passphrase does not open it"));
}

}  // namespace
}  // namespace kestrum::test
