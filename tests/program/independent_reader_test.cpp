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

// The same page is enough to mend a damaged volume, to the same bytes.
TEST(IndependentMender, MendsFromParity) {
  Desk desk;
  write_file(desk.source() + "/calls.wav", noise(3, 5u << 20));
  ASSERT_EQ(desk.define({"--how-volume-size", "2 MiB", "--protect-parity", "5%"}).exit, 0);
  ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  const std::string folder = desk.set_folder(1);
  const auto mends = [&](int slot, const std::string& name, const std::function<void(std::string&)>& spoil) {
    const std::string file = folder + "/" + name, target = desk.folder / "mended", good = read_file(file);
    std::string spoilt = good;
    spoil(spoilt);
    write_file(file, spoilt);
    const std::string command = "/usr/bin/python3 '" KESTRUM_SOURCE
                                "/tests/support/independent_mender.py' '" +
                                folder + "' " + std::to_string(slot) + " '" + target + "'";
    const bool done = std::system(command.c_str()) == 0;
    EXPECT_EQ(done && read_file(target) == good, done);
    write_file(file, good);
    return done;
  };
  const auto bad_run = [](std::size_t from, std::size_t slices) {
    return [=](std::string& content) {
      std::fill_n(content.begin() + static_cast<long>(from), slices * 4096, '\0');
    };
  };
  EXPECT_TRUE(mends(1, "data-001.kvol", bad_run(4096, 1)));
  EXPECT_TRUE(mends(1, "data-001.kvol", bad_run(3000, 20)));
  EXPECT_TRUE(mends(2, "data-002.kvol", [](std::string& content) { content.resize(content.size() - 5000); }));
  EXPECT_TRUE(mends(0, "index.kidx", [](std::string& content) { content[200] ^= 1; }));
  EXPECT_FALSE(mends(1, "data-001.kvol", bad_run(4096, 60)));
}

INSTANTIATE_TEST_SUITE_P(Protection, IndependentReader, testing::Bool(),
                         [](const auto& how) { return how.param ? "encrypted" : "none"; });

}  // namespace
}  // namespace kestrum::test
