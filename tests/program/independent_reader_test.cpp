// The page that states the format is held to the bytes: a reader written from docs/FORMAT.md alone gives back
// the same trees as restore does, for all kinds, encrypted and not.
#include <unistd.h>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

class IndependentReader : public testing::TestWithParam<bool> {};

TEST_P(IndependentReader, ReadsEveryPoint) {
  if (geteuid() != 0) GTEST_SKIP() << "giving files to other owners needs root";
  bool encrypted = GetParam();
  Desk desk;
  TreeMaker maker(desk.source(), encrypted ? 41 : 42);
  maker.grow(120);
  // One of everything that the page has a field for: a hole, a long content list, many attributes.
  write_file(desk.source() + "/long", std::string(40u << 20, 'x') + "end");
  std::filesystem::resize_file(desk.source() + "/long", 48u << 20);
  desk.define({"--how-volume-size", "700 KiB", "--how-compression", encrypted ? "small" : "fast"}, encrypted);
  std::map<int, Snapshot> points;
  const std::vector<std::vector<std::string>> runs{{"run", "wardens"},
                                                   {"run", "wardens"},
                                                   {"run", "wardens", "--kind", "differential"},
                                                   {"run", "wardens"},
                                                   {"run", "wardens", "--kind", "full"}};
  int sequence = 0;
  for (const std::vector<std::string>& words : runs) {
    ASSERT_EQ(desk(words).exit, 0);
    points[++sequence] = take_snapshot(desk.source());
    maker.churn(20);
  }
  // Two points become one; volumes are taken over as they are, since there is little room to write.
  ASSERT_EQ(desk({"fold", "wardens", "--last", "2", "--beyond-rules", "--yes"}).exit, 0);
  points.erase(1);
  for (const auto& [point, expected] : points) {
    std::string target = desk.folder / ("read-" + std::to_string(point));
    std::string command = "/usr/bin/python3 '" KESTRUM_SOURCE "/tests/support/independent_reader.py' '" +
                          desk.job_folder() + "' " + std::to_string(point) + " '" + target + "' '" +
                          desk.pass() + "'";
    ASSERT_EQ(std::system(command.c_str()), 0) << "point " << point;
    EXPECT_EQ(compare_snapshots(expected, take_snapshot(target + desk.source())), "") << "point " << point;
    std::filesystem::remove_all(target);
    std::string restored = desk.folder / "restored";
    ASSERT_EQ(desk({"restore", "wardens", desk.source(), "--at", std::to_string(point), "--to", restored,
                    "--with-owners", "--with-set-id", "--quiet"})
                  .exit,
              0);
    EXPECT_EQ(compare_snapshots(expected, take_snapshot(restored + "/source")), "") << "point " << point;
    std::filesystem::remove_all(restored);
  }
}

INSTANTIATE_TEST_SUITE_P(Protection, IndependentReader, testing::Bool(),
                         [](const auto& how) { return how.param ? "encrypted" : "none"; });

}  // namespace
}  // namespace kestrum::test
