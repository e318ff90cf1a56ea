// Killed at random moments of pruning and folding: every point that is left restores, and the next command
// works.
#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/extent.hpp"
#include "support/random_kills.hpp"

namespace kestrum::test {
namespace {

std::vector<int> points_of(Desk& desk) {
  Ran ran = desk({"points", "wardens", "--json"});
  const nlohmann::json document = nlohmann::json::parse(ran.out);
  std::vector<int> out;
  for (const auto& point : document.at("points")) out.push_back(point.at("point"));
  return out;
}

void expect_restored(Desk& desk, std::map<int, Snapshot>& points, const std::vector<int>& chosen,
                     unsigned round) {
  for (int which : chosen) {
    std::string to = desk.folder / "out";
    EXPECT_EQ(desk({"restore", "wardens", desk.source(), "--at", std::to_string(which), "--to", to,
                    "--with-owners", "--with-set-id", "--quiet"})
                  .exit,
              0);
    EXPECT_EQ(compare_snapshots(points[which], take_snapshot(to + "/source")), "")
        << "round " << round << " point " << which;
    std::filesystem::remove_all(to);
  }
}

// A job's life with one command killed in each round.
void kill_rounds(Desk& desk, TreeMaker& maker, unsigned wanted, const std::vector<std::string>& command,
                 unsigned least_points, RandomKills& kills, unsigned& round) {
  std::map<int, Snapshot> points;
  std::mt19937 random(2027);
  for (; kills.killed() < wanted && round < 2 * wanted; ++round) {
    while (points.size() < least_points) {
      Ran ran = desk({"run", "wardens"});
      ASSERT_EQ(ran.exit, 0) << ran.err;
      points[std::stoi(ran.out.substr(ran.out.find("point ") + 6))] = take_snapshot(desk.source());
      maker.churn(8);
    }
    std::vector<std::string> words = command;
    if (command[0] == "fold")
      words.insert(words.end(), {"--last", std::to_string(std::next(points.begin(), 2)->first),
                                 "--beyond-rules", "--yes"});
    kills.kill(desk.program.start(words));
    EXPECT_EQ(desk({"verify", "wardens", "--depth", "quick"}).exit, 0) << round;
    std::vector<int> left = points_of(desk);
    ASSERT_FALSE(left.empty()) << round << desk({"points", "wardens"}).out << desk({"points", "wardens"}).err;
    expect_restored(desk, points, {left.front(), left.back(), left[random() % left.size()]}, round);
    // Whatever was left half done is completed or taken back by the same command.
    Ran again = desk(words);
    EXPECT_TRUE(again.exit == 0 || (command[0] == "fold" && holds(again.err, "holds one point")))
        << again.err;
    left = points_of(desk);
    std::erase_if(points, [&](const auto& one) {
      return std::find(left.begin(), left.end(), one.first) == left.end();
    });
    EXPECT_EQ(points.size(), left.size());
    for (const auto& entry : std::filesystem::directory_iterator(desk.job_folder())) {
      std::string name = entry.path().filename();
      EXPECT_FALSE(name.ends_with(".removing") || name.ends_with(".unfinished")) << name;
    }
  }
  EXPECT_EQ(desk({"verify", "wardens"}).exit, 0);
}

// KESTRUM_KILLS=100 in the evidence tier.
TEST(KilledUpkeep, FoldingAtRandomMoments) {
  Desk desk;
  TreeMaker maker(desk.source(), 12);
  maker.grow(150);
  // Room for volumes that are kept and for some that are written again.
  desk.define({"--how-volume-size", "256 KiB", "--how-renew", "never", "--keep-points", "1000 points"},
              false);
  const unsigned wanted = extent("KESTRUM_KILLS", 30);
  RandomKills kills(2028);
  unsigned rounds = 0;
  kill_rounds(desk, maker, wanted, {"fold", "wardens"}, 5, kills, rounds);
  EXPECT_EQ(kills.killed(), wanted) << "most should have been killed";
  std::printf("killed %u of %u times while folding\n", kills.killed(), rounds);
}

TEST(KilledUpkeep, PruningAtRandomMoments) {
  Desk desk;
  TreeMaker maker(desk.source(), 13);
  maker.grow(100);
  desk.define({"--how-volume-size", "256 KiB", "--how-renew", "every 2 sets", "--keep-points", "1000 points"},
              false);
  // The rules of the runs keep everything; those of the command that is killed do not.
  std::map<int, Snapshot> points;
  RandomKills kills(7, 25000);
  unsigned round = 0;
  const unsigned wanted = extent("KESTRUM_KILLS", 50);
  for (; kills.killed() < wanted && round < 3 * wanted; ++round) {
    while (points.size() < 7) {
      Ran ran = desk({"run", "wardens"});
      ASSERT_EQ(ran.exit, 0) << ran.err;
      points[std::stoi(ran.out.substr(ran.out.find("point ") + 6))] = take_snapshot(desk.source());
      maker.churn(5);
    }
    ASSERT_EQ(desk({"job", "edit", "wardens", "--keep-points", "2 points"}).exit, 0);
    kills.kill(desk.program.start({"prune", "wardens"}));
    ASSERT_EQ(desk({"job", "edit", "wardens", "--keep-points", "1000 points"}).exit, 0);
    ASSERT_EQ(desk({"verify", "wardens", "--depth", "quick"}).exit, 0) << round;
    std::vector<int> left = points_of(desk);
    ASSERT_GE(left.size(), 2u);
    EXPECT_EQ(left.back(), points.rbegin()->first);
    expect_restored(desk, points, {left.front(), left.back()}, round);
    std::erase_if(points, [&](const auto& one) {
      return std::find(left.begin(), left.end(), one.first) == left.end();
    });
  }
  EXPECT_EQ(kills.killed(), wanted) << "most should have been killed";
  std::printf("killed %u of %u times while pruning\n", kills.killed(), round);
  EXPECT_EQ(desk({"verify", "wardens"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
