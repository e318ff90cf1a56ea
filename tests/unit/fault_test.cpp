// Operation N of a run fails, for N = 1, 2, 3 ... until a run gets through; once each time, for ever, and
// torn. After each: the earlier points restore, nothing half-done poses as a set, and the next run works.
#include <gtest/gtest.h>

#include "engine/leftover_use.hpp"
#include "support/set_back.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

struct FaultCase {
  const char* name;
  bool for_ever;
  bool torn;
  int code;
  bool objects = false;  // on a store for objects
  bool reads = false;    // a reading operation fails, not a changing one
  bool resume = false;   // the run goes on with what a broken one has left
};
class Faults : private InMemory, public testing::TestWithParam<FaultCase> {};

TEST_P(Faults, EveryOperationOfARunMayFail) {
  FaultCase how = GetParam();
  std::optional<UseObjects> objects;
  if (how.objects) objects.emplace();
  Workbench bench(
      "[how]\nvolume-size = \"64 KiB\"\n[protect]\nencryption = \"none\"\n[check]\nafter-run = "
      "\"nothing\"\n");
  bench.journal_step = 4096;  // so that runs go on with what those before have left
  TreeMaker maker(bench.source(), 3);
  maker.grow(25);
  Sequence first = bench.run_good();
  const std::string memory = bench.home().state_file("job");
  Snapshot before = take_snapshot(bench.source());
  maker.churn(6);
  write_file(bench.source() + "/two-volumes", std::string(200000, 'a') + std::to_string(how.code));
  Snapshot after = take_snapshot(bench.source());
  if (how.resume) {
    bench.settle_files();
    ASSERT_FALSE(bench.run_stopped_at(150000).entry.sequence);
    ASSERT_TRUE(left_point(bench.subject()));
  }
  const std::string kept = bench.path("kept");
  std::filesystem::copy(bench.drive(), kept, std::filesystem::copy_options::recursive);
  const std::string remembered = read_file(memory);

  std::uint64_t swept = 0;
  bool got_through = false;
  for (std::uint64_t n = 1; !got_through; ++n) {
    ASSERT_LT(n, 2000u);
    ++swept;
    auto state = std::make_shared<FaultStore::State>();
    state->fault = {n, how.for_ever, how.code, how.torn, how.reads};
    bench.open_store = [&](const std::string& root) {
      return std::make_unique<FaultStore>(usual_store(root), state);
    };
    RunOutcome outcome = bench.run();
    bench.open_store = usual_store;
    got_through = state->done < n;
    bool sealed = outcome.entry.sequence.has_value();
    if (!got_through && !sealed) {
      const int code = outcome.entry.exit_code;
      // A drive that takes nothing any more is told as that.
      const bool gone = how.for_ever && !how.reads && how.code == EIO;
      EXPECT_TRUE(code == (how.code == ENOSPC ? 9
                           : gone             ? 5
                                              : 3) ||
                  (how.reads && code == 4))
          << n << ": " << code << " " << outcome.entry.message;
    }
    // Whatever is there: each sealed point restores as it was when it was made.
    for (const FoundSet& set : bench.subject().sets()) {
      if (!set.sealed()) {
        EXPECT_TRUE(set.folder.unfinished || set.folder.removing) << n << ": " << set.folder.name;
        continue;
      }
      if (n % 7 == 0 || got_through || sealed) {
        EXPECT_EQ(compare_snapshots(set.folder.sequence == first ? before : after,
                                    bench.restored(set.folder.sequence)),
                  "")
            << n;
      }
    }
    EXPECT_TRUE(bench.verified(Depth::quick).good() || sealed) << n;
    // The next run works, and tidies up.
    Sequence next = bench.run_good();
    EXPECT_TRUE(bench.verified().good()) << n;
    for (const FoundSet& set : bench.subject().sets())
      EXPECT_TRUE(set.sealed() && !set.folder.unfinished) << n;
    if (n % 7 == 0) {
      EXPECT_EQ(compare_snapshots(after, bench.restored(next)), "") << n;
    }
    // Back to how it was, so that the next round writes as much as this one.
    std::filesystem::remove_all(bench.drive());
    std::filesystem::copy(kept, bench.drive(), std::filesystem::copy_options::recursive);
    write_file(memory, remembered);
    forget_history(bench.home());
  }
  std::printf("%s: %llu moments\n", how.name, static_cast<unsigned long long>(swept));
}

INSTANTIATE_TEST_SUITE_P(Ways, Faults,
                         testing::Values(FaultCase{"once", false, false, EIO},
                                         FaultCase{"for_ever", true, false, EIO},
                                         FaultCase{"full", true, true, ENOSPC},
                                         FaultCase{"objects_once", false, false, EIO, true},
                                         FaultCase{"objects_for_ever", true, false, EIO, true},
                                         FaultCase{"objects_full", true, false, ENOSPC, true},
                                         FaultCase{"reads_once", false, false, EIO, false, true},
                                         FaultCase{"reads_for_ever", true, false, EIO, false, true},
                                         FaultCase{"objects_reads", false, false, EIO, true, true},
                                         FaultCase{"resume_once", false, false, EIO, false, false, true},
                                         FaultCase{"resume_for_ever", true, true, EIO, false, false, true},
                                         FaultCase{"resume_full", true, true, ENOSPC, false, false, true},
                                         FaultCase{"resume_reads", false, false, EIO, false, true, true}),
                         [](const auto& way) { return way.param.name; });

}  // namespace
}  // namespace kestrum::test
