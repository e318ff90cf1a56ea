// One job on several drives: which of them a run goes to, and what is said when some are away.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

using Json = nlohmann::json;

class Destinations : public testing::Test {
 protected:
  std::string second() const { return desk_.folder / "drive-2"; }
  void define(const std::string& use) {
    std::filesystem::create_directories(second());
    write_file(desk_.source() + "/list", "tern\n");
    Ran ran = desk_.define({"--where-destinations", second(), "--where-use", use}, false);
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  static long sets(const std::string& drive) {
    std::string folder = drive + "/skerry-1/wardens";
    if (!std::filesystem::exists(folder)) return 0;
    return std::count_if(std::filesystem::directory_iterator(folder), {},
                         [](const auto& entry) { return entry.is_directory(); });
  }
  void away(const std::string& drive) { std::filesystem::rename(drive, drive + "-away"); }
  void back(const std::string& drive) { std::filesystem::rename(drive + "-away", drive); }
  Desk desk_;
};

TEST_F(Destinations, AllConnected) {
  define("all connected");
  Ran both = desk_({"run", "wardens", "--json"});
  ASSERT_EQ(both.exit, 0) << both.err;
  EXPECT_EQ(Json::parse(both.out).at("runs").size(), 2u);
  EXPECT_EQ(sets(desk_.drive()), 1);
  EXPECT_EQ(sets(second()), 1);
  away(second());
  Ran one = desk_({"run", "wardens", "--quiet"});
  ASSERT_EQ(one.exit, 1) << one.err;  // it was to go to each
  EXPECT_TRUE(holds(one.err, "could not write a set to " + second())) << one.err;
  EXPECT_EQ(sets(desk_.drive()), 2);
  back(second());
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  EXPECT_EQ(sets(desk_.drive()), 3);
  EXPECT_EQ(sets(second()), 2);
  // Each run has its log and its place in the history.
  Ran history = desk_({"history", "wardens", "--json"});
  EXPECT_EQ(Json::parse(history.out).at("runs").size(), 5u);
  EXPECT_EQ(desk_({"verify", "wardens"}).exit, 0);
}

TEST_F(Destinations, InTurnsWhereBothAreThere) {
  define("whichever is connected");
  for (int run = 0; run < 4; ++run) ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  EXPECT_EQ(sets(desk_.drive()), 2);
  EXPECT_EQ(sets(second()), 2);
}

TEST_F(Destinations, NoneThereIsSaidWithAll) {
  define("whichever is connected");
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  away(desk_.drive());
  away(second());
  Ran ran = desk_({"run", "wardens", "--quiet"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_TRUE(holds(ran.err, "none of the 2 destinations can be used")) << ran.err;
  EXPECT_TRUE(holds(ran.err, desk_.drive()) && holds(ran.err, second())) << ran.err;
  EXPECT_EQ(desk_({"points", "wardens"}).exit, 5);
  EXPECT_EQ(desk_({"prune", "wardens"}).exit, 5);
}

// The folder that a drive is mounted on at other times, before anything was ever written to that drive.
TEST_F(Destinations, TheMountPointOfADriveNeverUsedIsNoChoice) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  std::filesystem::create_directories(second());
  write_file(desk_.source() + "/list", "tern\n");
  Mounted one("tmpfs", desk_.drive(), "-t tmpfs -o size=24m");
  ASSERT_TRUE(one.good());
  const std::vector<std::string> uses{"whichever is connected", "next when full", "all connected"};
  for (const std::string& use : uses) {
    Mounted there("tmpfs", second(), "-t tmpfs -o size=24m");
    Ran defined = desk_({"job", "define", std::string("turns-") + use[0], "--what-folders", desk_.source(),
                         "--where-destinations", second(), "--where-destinations", desk_.drive(),
                         "--where-use", use, "--protect-encryption", "none"});
    ASSERT_EQ(defined.exit, 0) << defined.err;
  }
  for (const std::string& use : uses) {
    for (int run = 0; run < 2; ++run) {
      Ran ran = desk_({"run", std::string("turns-") + use[0], "--quiet"});
      EXPECT_EQ(ran.exit, use == "all connected" ? 1 : 0) << use << ": " << ran.err << ran.out;
    }
    EXPECT_TRUE(
        holds(desk_({"run", std::string("turns-") + use[0]}).err, "run the job once with --new-drive"))
        << use;
    EXPECT_TRUE(std::filesystem::is_empty(second())) << use;
  }
  // It is a drive now.
  Mounted two("tmpfs", second(), "-t tmpfs -o size=24m");
  EXPECT_EQ(desk_({"run", "turns-w", "--quiet"}).exit, 0);
  EXPECT_FALSE(std::filesystem::is_empty(second()));
}

TEST_F(Destinations, AnEmptyMountPointIsPassedOver) {
  define("whichever is connected");
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  away(desk_.drive());
  std::filesystem::create_directories(desk_.drive());
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  EXPECT_TRUE(std::filesystem::is_empty(desk_.drive()));
  EXPECT_EQ(sets(second()), 2);
}

TEST_F(Destinations, AStrangersDriveIsPassedOverAndSaid) {
  define("whichever is connected");
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  // Another drive where the first should be; the second is away.
  Desk other;
  write_file(other.source() + "/list", "skua\n");
  other.define({}, false);
  ASSERT_EQ(other({"run", "wardens", "--quiet"}).exit, 0);
  away(desk_.drive());
  away(second());
  std::filesystem::copy(other.drive(), desk_.drive(), std::filesystem::copy_options::recursive);
  Ran ran = desk_({"run", "wardens", "--quiet"});
  EXPECT_EQ(ran.exit, 8) << ran.err;
  back(second());
  EXPECT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  EXPECT_EQ(sets(second()), 2);
}

TEST_F(Destinations, ADriveMayBeAddedLater) {
  write_file(desk_.source() + "/list", "tern\n");
  desk_.define({}, false);
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  std::filesystem::create_directories(second());
  Ran edited = desk_(
      {"job", "edit", "wardens", "--where-destinations", desk_.drive(), "--where-destinations", second()});
  ASSERT_EQ(edited.exit, 0) << edited.err;
  EXPECT_TRUE(holds(edited.out, "a drive that is new to the job begins with a full set")) << edited.out;
  Ran ran = desk_({"run", "wardens"});
  ASSERT_EQ(ran.exit, 0) << ran.err;
  EXPECT_TRUE(holds(ran.out, "point 1, full")) << ran.out;
  EXPECT_EQ(sets(second()), 1);
}

}  // namespace
}  // namespace kestrum::test
