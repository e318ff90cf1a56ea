// Killed at random moments of a run: every earlier point restores, and the next run works.
#include "program/desk.hpp"
#include "support/extent.hpp"
#include "support/random_kills.hpp"

namespace kestrum::test {
namespace {

TEST(Kill, AtRandomMoments) {
  Desk desk;
  TreeMaker maker(desk.source(), 11);
  maker.grow(150);
  desk.define({"--how-volume-size", "1 MiB", "--how-renew", "every 7 sets"}, false);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  std::map<int, Snapshot> points{{1, take_snapshot(desk.source())}};
  std::mt19937 random(2027);
  ASSERT_EQ(desk({"run", "wardens", "--kind", "full"}).exit, 0);
  RandomKills full_runs(2028), runs(2029);
  const auto killed = [&] { return full_runs.killed() + runs.killed(); };
  int newest = 2;
  points[2] = take_snapshot(desk.source());
  const unsigned wanted = extent("KESTRUM_KILLS", 50);
  unsigned round = 0;
  for (; killed() < wanted && round < 2 * wanted; ++round) {
    maker.churn(8);
    std::vector<std::string> words{"run", "wardens"};
    const bool full = round % 3 == 0;
    if (full) words.insert(words.end(), {"--kind", "full"});
    (full ? full_runs : runs).kill(desk.program.start(words));
    Snapshot now = take_snapshot(desk.source());
    // It may have sealed a point before it died: that one counts, whole.
    Ran verified = desk({"verify", "wardens", "--depth", "quick"});
    ASSERT_EQ(verified.exit, 0) << round << verified.out << verified.err;
    Ran next = desk({"run", "wardens"});
    ASSERT_EQ(next.exit, 0) << round << next.err;
    std::string line = next.out.substr(next.out.find("point ") + 6);
    newest = std::stoi(line);
    points[newest] = now;
    // One earlier point, and the newest, restored each round.
    for (int which :
         {std::next(points.begin(), static_cast<std::ptrdiff_t>(random() % points.size()))->first, newest}) {
      std::string to = desk.folder / "out";
      ASSERT_EQ(desk({"restore", "wardens", desk.source(), "--at", std::to_string(which), "--to", to,
                      "--with-owners", "--with-set-id", "--quiet"})
                    .exit,
                0);
      EXPECT_EQ(compare_snapshots(points[which], take_snapshot(to + "/source")), "")
          << "round " << round << " point " << which;
      std::filesystem::remove_all(to);
    }
  }
  std::printf("killed %u of %u times during a run\n", killed(), round);
  EXPECT_EQ(killed(), wanted) << "most runs should have been killed before their end";
  EXPECT_EQ(desk({"verify", "wardens"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
