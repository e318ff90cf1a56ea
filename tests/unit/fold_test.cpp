// Folding: whatever a tree went through, every point that is left gives back exactly what was there.
#include <gtest/gtest.h>

#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

void expect_every_point_left_exact(unsigned seed) {
  Workbench bench("[how]\nrenew = \"never\"\nvolume-size = \"" +
                  std::string(seed % 2 == 0 ? "256 KiB" : "1 GiB") +
                  "\"\n[protect]\nencryption = \"none\"\n[check]\nafter-run = \"nothing\"\n");
  TreeMaker maker(bench.source(), seed);
  maker.grow(50);
  // Large enough for frames of its own: nothing else keeps its content alive.
  const std::string content = noise(seed, 5u << 20);
  write_file(bench.source() + "/vanishes", content);
  std::map<Sequence, Snapshot> expected;
  for (int round = 0; round < 12; ++round) {
    Kind kind = seed % 3 == 0 && maker.number(3) == 0 ? Kind::differential : Kind::incremental;
    Sequence point = bench.run_good(round == 0 ? std::nullopt : std::optional(kind));
    ASSERT_NE(point, 0u);
    expected[point] = take_snapshot(bench.source());
    if (round > 2 && maker.number(2) == 0) {
      std::vector<Sequence> points = bench.points();
      std::size_t first = maker.number(static_cast<unsigned>(points.size() - 1));
      std::size_t last = first + 1 + maker.number(static_cast<unsigned>(points.size() - first - 1));
      EXPECT_EQ(bench.fold(points[first], points[last]), last - first);
      for (std::size_t i = first; i < last; ++i) expected.erase(points[i]);
    }
    maker.churn(1 + static_cast<int>(maker.number(20)));
    // Gone for a while, and back as it was: later points refer to the old content.
    std::string name = bench.source() + "/vanishes";
    if (std::filesystem::exists(name)) {
      std::filesystem::remove(name);
    } else if (maker.number(2) == 0) {
      write_file(name, content);
    }
  }
  std::vector<Sequence> left;
  for (const auto& [point, snapshot] : expected) {
    left.push_back(point);
    EXPECT_EQ(compare_snapshots(snapshot, bench.restored(point)), "")
        << "point " << point << ", seed " << seed;
  }
  EXPECT_EQ(bench.points(), left);
  EXPECT_TRUE(bench.verified().good());
  EXPECT_TRUE(bench.verified(Depth::quick).good());
}

class Folding : public testing::TestWithParam<unsigned> {};
TEST_P(Folding, EveryPointLeftRestoresExactly) {
  expect_every_point_left_exact(GetParam());
}
class FoldingObjects : public testing::TestWithParam<unsigned> {};
TEST_P(FoldingObjects, EveryPointLeftRestoresExactly) {
  UseObjects objects;
  expect_every_point_left_exact(GetParam());
}
INSTANTIATE_TEST_SUITE_P(Seeds, Folding, testing::Range(1u, 25u));
INSTANTIATE_TEST_SUITE_P(Seeds, FoldingObjects, testing::Range(1u, 9u));

TEST(Fold, TheLastRunBuildsOnWhatWasFolded) {
  Workbench bench("[protect]\nencryption = \"none\"\n");
  TreeMaker maker(bench.source(), 5);
  maker.grow(40);
  for (int i = 0; i < 4; ++i) {
    bench.run_good();
    maker.churn(6);
  }
  EXPECT_EQ(bench.fold({}, 4), 3u);
  EXPECT_EQ(bench.points(), std::vector<Sequence>{4});
  std::string name = std::filesystem::path(bench.set_folder(4)).filename();
  EXPECT_TRUE(name.find("_full_from-000001") != std::string::npos) << name;
  RunOutcome next = bench.run();
  EXPECT_EQ(next.entry.kind, Kind::incremental) << next.entry.reason;
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.source()), bench.restored(5)), "");
  // The chain of one full and one increment: what was there before is gone.
  EXPECT_EQ(bench.points(), (std::vector<Sequence>{4, 5}));
  EXPECT_TRUE(bench.verified().good());
}

TEST(Fold, DropsWhatNobodyRefersTo) {
  Workbench bench("[protect]\nencryption = \"none\"\n");
  write_file(bench.source() + "/stays", noise(1, 400000));
  for (unsigned i = 0; i < 5; ++i) {
    write_file(bench.source() + "/changes", noise(100 + i, 600000));
    bench.run_good();
  }
  auto bytes = [&] {
    std::uint64_t sum = 0;
    for (const FoundSet& set : bench.subject().sets()) sum += set.seal->core.facts.totals.stored_bytes;
    return sum;
  };
  std::uint64_t before = bytes();
  EXPECT_GT(before, 3400000u);
  bench.fold({}, 5);
  EXPECT_LT(bytes(), 1100000u);
}

TEST(Fold, DamageIsNotCarriedOn) {
  Workbench bench(
      "[how]\nrenew = \"never\"\n[protect]\nencryption = \"none\"\n[keep]\npoints = \"100 points\"\n");
  std::map<Sequence, Snapshot> seen;
  for (unsigned i = 0; i < 5; ++i) {
    write_file(bench.source() + "/stays-" + std::to_string(i), noise(i, 5u << 20));
    Sequence point = bench.run_good();
    seen[point] = take_snapshot(bench.source());
  }
  // A byte in the middle of the second set's content, which nobody has noticed.
  std::string volume = bench.set_folder(2) + "/data-001.kvol";
  std::string bytes = read_file(volume);
  bytes[2u << 20] = static_cast<char>(bytes[2u << 20] ^ 1);
  write_file(volume, bytes);
  bench.set_keep("points = \"2 points\"");
  RunOutcome outcome = bench.run();
  ASSERT_TRUE(outcome.entry.sequence);
  ASSERT_EQ(outcome.problems.size(), 1u);
  EXPECT_EQ(outcome.problems[0].operation, "fold");
  // Nothing went that something else needs.
  EXPECT_EQ(bench.points().size(), 6u);
  EXPECT_EQ(compare_snapshots(seen[1], bench.restored(1)), "");
  // Now it is known: an endless chain is begun anew, and what was damaged is saved again.
  RunOutcome next = bench.run();
  EXPECT_EQ(next.entry.kind, Kind::full) << next.entry.reason;
  EXPECT_NE(next.entry.reason.find("damaged"), std::string::npos) << next.entry.reason;
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.source()), bench.restored(7)), "");
}

// Where room is short, volumes of which little is needed are cheap to write again, and are looked at as that.
TEST(FoldedFiles, TakeNoMoreThanWhatIsNeededOfSparseFrames) {
  FoldedFile file;
  file.frames[100] = {.size = 4000000, .needed = 3000000, .content = 5000000};  // copied as it is
  EXPECT_EQ(file.copied_bytes(), 4000000u);
  file.frames[200] = {.size = 4000000, .needed = 0, .content = 5000000};
  EXPECT_EQ(file.copied_bytes(), 4000000u);
  file.frames[300] = {.size = 4000000, .needed = 100000, .content = 5000000};  // packed anew
  EXPECT_LT(file.copied_bytes(), 4110000u);
  EXPECT_GE(file.copied_bytes(), 4100000u) << "it may not compress at all";
  file.frames[400] = {.size = 10000, .needed = 200000, .content = 500000};  // compresses well
  EXPECT_LT(file.copied_bytes(), 4130000u);
}

}  // namespace
}  // namespace kestrum::test
