// What `status` says at a glance is true: from the drive where it is there, by the job's own times, and with
// a clock that is wrong.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

using Json = nlohmann::json;

using testing::Contains;
using testing::HasSubstr;
using testing::Not;

class StatusAtAGlance : public testing::Test {
 protected:
  StatusAtAGlance() {
    write_file(desk_.source() + "/counts.csv", "3,Gannet\n");
    std::filesystem::create_directories(second());
    day("2027-03-01");
  }
  std::string second() const { return desk_.folder / "second"; }
  void day(const std::string& date) { desk_.program.environment["KESTRUM_NOW"] = date + "T20:30:00Z"; }
  void define_pair(std::vector<std::string> more = {}) {
    std::vector<std::string> words{"--where-destinations", second(), "--where-use", "all connected"};
    words.insert(words.end(), more.begin(), more.end());
    ASSERT_EQ(desk_.define(words).exit, 0);
    ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  }
  // The kinds of trouble, each with the destination that it is of.
  std::vector<std::string> troubles() {
    std::vector<std::string> out;
    const Json json = Json::parse(desk_({"status", "--json"}).out);
    for (const Json& one : json["jobs"][0]["trouble-list"])
      out.push_back(one["trouble"].get<std::string>() + "@" +
                    std::filesystem::path(one["destination"].get<std::string>()).filename().string());
    return out;
  }
  void damage(const std::string& drive) {
    for (const auto& entry : std::filesystem::recursive_directory_iterator(drive)) {
      if (entry.path().extension() != ".kvol") continue;
      std::string content = read_file(entry.path());
      content[100] = static_cast<char>(content[100] ^ 1);
      write_file(entry.path(), content);
    }
  }
  Desk desk_;
};

TEST_F(StatusAtAGlance, AClockThatWentBackIsTold) {
  ASSERT_EQ(desk_.define().exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk_({"status"}).exit, 0);
  day("2027-02-01");
  Ran status = desk_({"status"});
  EXPECT_EQ(status.exit, 1);
  EXPECT_THAT(status.out, HasSubstr("is the clock right?"));
  EXPECT_THAT(status.out, HasSubstr("ahead: 2027-03-01"));
  EXPECT_THAT(status.out, Not(HasSubstr("just now")));
  EXPECT_EQ(desk_({"status", desk_.drive() + "/"}).exit, 1);
  EXPECT_THAT(troubles(), Contains("clock@"));
}

TEST_F(StatusAtAGlance, AnEmptyMountPointIsNoDriveOfTheJob) {
  define_pair();
  EXPECT_EQ(desk_({"status"}).exit, 0);
  std::filesystem::rename(second(), second() + "-away");
  std::filesystem::create_directories(second());
  day("2027-03-10");
  Ran status = desk_({"status"});
  EXPECT_EQ(status.exit, 1);
  EXPECT_THAT(status.out, HasSubstr("second (not there)"));
  EXPECT_THAT(troubles(), Contains("drive-away@second"));
  // The run says it too, and each drive has its own age.
  Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 1) << run.err;
  EXPECT_THAT(run.err, HasSubstr("could not write a set to " + second()));
  status = desk_({"status"});
  EXPECT_THAT(status.out, HasSubstr("9 days ago"));
  EXPECT_THAT(status.out, HasSubstr("just now"));
}

TEST_F(StatusAtAGlance, WhereASetGoesToEachDriveNoneMayBeOld) {
  define_pair({"--when-warn-after", "2 days"});
  std::filesystem::rename(second(), second() + "-away");
  day("2027-03-08");
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 1);
  EXPECT_THAT(troubles(), Contains("overdue@second"));
}

TEST_F(StatusAtAGlance, DamageIsToldOfTheDriveThatHasIt) {
  define_pair();
  damage(second());
  EXPECT_EQ(desk_({"verify", "wardens"}).exit, 4);
  Ran status = desk_({"status"});
  EXPECT_EQ(status.exit, 1);
  EXPECT_THAT(status.out, HasSubstr("second: 1 damaged point: kestrum verify wardens"));
  EXPECT_THAT(troubles(), Contains("drive-bare@second"));
  // It stays so when the drive is gone.
  std::filesystem::rename(second(), second() + "-away");
  const Json json = Json::parse(desk_({"status", "--json"}).out);
  EXPECT_TRUE(json["jobs"][0]["destinations"][1]["newest-good-point"].is_null());
}

TEST_F(StatusAtAGlance, OnChangeWithALongestWaitIsMissedToo) {
  ASSERT_EQ(desk_.define({"--when-runs", "on change, at least every 2 hours"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk_({"status"}).exit, 0);
  day("2027-03-02");
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("due on 2027-03-01 22:30, not run"));
}

TEST_F(StatusAtAGlance, TheWorstJobComesFirst) {
  ASSERT_EQ(desk_.define().exit, 0);
  ASSERT_EQ(desk_({"job", "copy", "wardens", "moths"}).exit, 0);
  ASSERT_EQ(desk_({"run", "moths"}).exit, 0);
  day("2027-03-02");
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  damage(desk_.drive() + "/skerry-1/wardens");
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);  // this machine does not know of the damage yet
  EXPECT_EQ(desk_({"verify", "wardens", "--at", "1"}).exit, 4);
  const Json json = Json::parse(desk_({"status", "--json"}).out);
  EXPECT_EQ(json["jobs"][0]["job"], "wardens");
}

// Point 4 of the same: damage stays damage.
TEST_F(StatusAtAGlance, AQuickLookDoesNotCallGoodWhatIsKnownToBeDamaged) {
  std::string random;
  for (unsigned x = 1; random.size() < 200'000; x = x * 1664525 + 1013904223)
    random += static_cast<char>(x >> 24);
  write_file(desk_.source() + "/counts.csv", random);
  ASSERT_EQ(desk_.define().exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  write_file(desk_.source() + "/more.csv", "1,Skua\n");
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  // In the middle of a box: the marks of the frames do not show it.
  for (const auto& entry : std::filesystem::directory_iterator(desk_.set_folder(1))) {
    if (entry.path().extension() != ".kvol") continue;
    std::string content = read_file(entry.path());
    content[content.size() / 2] = static_cast<char>(content[content.size() / 2] ^ 1);
    write_file(entry.path(), content);
  }
  ASSERT_EQ(desk_({"verify", "wardens"}).exit, 4);
  for (int again = 0; again < 2; ++again) {
    Ran quick = desk_({"verify", "wardens", "--depth", "quick"});
    EXPECT_EQ(quick.exit, 4);
    EXPECT_THAT(quick.out, Not(HasSubstr("good")));
    EXPECT_EQ(desk_({"points", "wardens"}).exit, 4);
    EXPECT_EQ(desk_({"status"}).exit, 1);
  }
  Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 1);
  EXPECT_THAT(run.err, HasSubstr("saved anew"));
  EXPECT_THAT(run.err, HasSubstr("1 unchanged file"));
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  // The points made since are whole, and another look at the old damage does not change that.
  day("2027-03-20");
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "quick"}).exit, 4);
  const Json points = Json::parse(desk_({"points", "wardens", "--json"}).out)["points"];
  ASSERT_EQ(points.size(), 4U);
  EXPECT_EQ(points[0]["health"], "damaged");
  EXPECT_EQ(points[2]["health"], "proved");
  EXPECT_EQ(points[3]["health"], "proved");
}

}  // namespace
}  // namespace kestrum::test
