// Operation N of a folding or a pruning fails, for N = 1, 2, 3 ...: the points stay whole, and the next one
// works.
#include <gtest/gtest.h>

#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

struct UpkeepFaultCase {
  const char* name;
  bool for_ever;
  bool objects;
  bool reads = false;
};
class UpkeepFaults : private InMemory, public testing::TestWithParam<UpkeepFaultCase> {};

TEST_P(UpkeepFaults, EveryOperationMayFail) {
  bool for_ever = GetParam().for_ever;
  std::optional<UseObjects> objects;
  if (GetParam().objects) objects.emplace();
  Workbench bench(
      "[how]\nvolume-size = \"64 KiB\"\nrenew = \"every 3 sets\"\n[protect]\nencryption = \"none\"\n[check]\n"
      "after-run = \"nothing\"\n[keep]\npoints = \"100 points\"\n");
  TreeMaker maker(bench.source(), 4);
  maker.grow(25);
  std::map<Sequence, Snapshot> points{{1, take_snapshot(bench.source())}};
  ASSERT_EQ(bench.run_good(), 1u);
  auto refill = [&] {
    while (bench.points().size() < 5) {
      maker.churn(4);
      Sequence point = bench.run_good();
      ASSERT_NE(point, 0u);
      points[point] = take_snapshot(bench.source());
    }
  };
  bool got_through = false;
  std::uint64_t swept = 0;
  for (std::uint64_t n = 1; !got_through; n += n < 40 ? 1 : 3) {
    ASSERT_LT(n, 3000u);
    ++swept;
    refill();
    std::vector<Sequence> before = bench.points();
    // Fold what is left of the first chain; its end is the last point before the next full.
    const SetList sets = bench.subject().sets();
    Sequence last = 0;
    for (const FoundSet& set : sets) {
      if (set.sealed() && set.seal->core.facts.chain == sets[0].seal->core.facts.chain)
        last = set.folder.sequence;
    }
    auto state = std::make_shared<FaultStore::State>();
    state->fault = {n, for_ever, EIO, true, GetParam().reads};
    bench.open_store = [&](const std::string& root) {
      return std::make_unique<FaultStore>(usual_store(root), state);
    };
    bool failed = false;
    try {
      if (last != before.front()) bench.fold({}, last);
      RunContext context = bench.context();
      bench.set_keep("points = \"2 points\"");
      prune_job("job", false, context);
    } catch (const Error& error) {
      failed = true;
      const bool gone = for_ever && !GetParam().reads;
      EXPECT_TRUE(error.kind() == (gone ? ErrorKind::no_destination : ErrorKind::failed) ||
                  (GetParam().reads && error.kind() == ErrorKind::damage))
          << n << ": " << error.what();
    }
    bench.set_keep("points = \"100 points\"");
    bench.open_store = usual_store;
    got_through = !failed && state->done < n;
    EXPECT_TRUE(bench.verified(Depth::quick).good()) << n;
    for (Sequence point : bench.points()) {
      if (n % 5 != 0 && point != bench.points().front()) continue;
      EXPECT_EQ(compare_snapshots(points[point], bench.restored(point)), "") << n << " point " << point;
    }
    // The next one tidies up.
    Sequence next = bench.run_good();
    points[next] = take_snapshot(bench.source());
    for (const auto& entry : std::filesystem::directory_iterator(bench.drive() + "/skerry-1/job")) {
      std::string name = entry.path().filename();
      EXPECT_FALSE(name.ends_with(".removing") || name.ends_with(".unfinished")) << n << " " << name;
    }
    EXPECT_TRUE(bench.verified().good()) << n;
  }
  std::printf("%s: %llu moments\n", GetParam().name, static_cast<unsigned long long>(swept));
}

INSTANTIATE_TEST_SUITE_P(Ways, UpkeepFaults,
                         testing::Values(UpkeepFaultCase{"once", false, false},
                                         UpkeepFaultCase{"for_ever", true, false},
                                         UpkeepFaultCase{"objects_once", false, true},
                                         UpkeepFaultCase{"objects_for_ever", true, true},
                                         UpkeepFaultCase{"reads_once", false, false, true},
                                         UpkeepFaultCase{"reads_for_ever", true, false, true}),
                         [](const auto& way) { return way.param.name; });

}  // namespace
}  // namespace kestrum::test
