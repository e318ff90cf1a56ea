// Whatever a tree looks like and however it changes, every point gives back exactly what was there.
#include <gtest/gtest.h>

#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

void expect_every_point_exact(unsigned seed) {
  std::string protect = seed % 4 == 0 ? "" : "[protect]\nencryption = \"none\"\n";
  Workbench bench(
      seed % 3 == 0
          ? "[how]\nvolume-size = \"256 KiB\"\ncompression = \"fast\"\n[protect]\nencryption = \"none\"\n"
          : "[protect]\nencryption = \"none\"\n");
  if (!protect.empty() || seed % 3 == 0) {
    // as set
  } else {
    write_file(bench.path("pass"), "tern in the fog\n");
    chmod(bench.path("pass").c_str(), 0600);
    bench.set_job("[what]\nfolders = [\"" + bench.source() + "\"]\n[where]\ndestinations = [\"" +
                  bench.drive() + "\"]\n[protect]\npassphrase = \"file:" + bench.path("pass") + "\"\n");
  }
  TreeMaker maker(bench.source(), seed);
  maker.grow(60);
  std::map<Sequence, Snapshot> expected;
  constexpr Kind kinds[] = {Kind::incremental, Kind::incremental, Kind::differential, Kind::full};
  for (int round = 0; round < 6; ++round) {
    Sequence point = bench.run_good(round == 0 ? std::nullopt : std::optional(kinds[maker.number(4)]));
    ASSERT_NE(point, 0u);
    expected[point] = take_snapshot(bench.source());
    maker.churn(1 + static_cast<int>(maker.number(25)));
  }
  for (const auto& [point, snapshot] : expected) {
    EXPECT_EQ(compare_snapshots(snapshot, bench.restored(point)), "")
        << "point " << point << ", seed " << seed;
  }
  EXPECT_TRUE(bench.verified().good());
}

class RandomTrees : public testing::TestWithParam<unsigned> {};
TEST_P(RandomTrees, EveryPointRestoresExactly) {
  expect_every_point_exact(GetParam());
}
TEST_P(RandomTrees, EveryPointRestoresExactlyFromObjects) {
  UseObjects objects;
  expect_every_point_exact(GetParam());
}
INSTANTIATE_TEST_SUITE_P(Seeds, RandomTrees, testing::Range(1u, 21u));

}  // namespace
}  // namespace kestrum::test
