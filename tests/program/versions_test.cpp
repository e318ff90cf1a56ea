// Finding and going on: versions through all points and drives, where something was last, and ways to say
// when and what.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;
using testing::HasSubstr;
using testing::Not;

class Versions : public testing::Test {
 protected:
  Versions() {
    write_file(list(), "one\n");
    write_file(desk_.source() + "/lists/other.csv", "other\n");
    EXPECT_EQ(desk_.define({"--how-kind", "incremental"}).exit, 0);
  }
  std::string list() const { return desk_.source() + "/lists/budget.csv"; }
  void day(const std::string& moment) { desk_.program.environment["KESTRUM_NOW"] = moment; }
  void run_on(const std::string& date) {
    day(date + "T20:30:00Z");
    ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  }
  // Points 1 and 2 have the first version, 3 and 4 the second, 5 none, 6 the second again under another name.
  void a_week() {
    run_on("2027-03-08");  // a Monday
    run_on("2027-03-09");
    write_file(list(), "two!\n");
    run_on("2027-03-10");
    run_on("2027-03-11");
    fs::rename(list(), desk_.source() + "/lists/Budget-2027.csv");
    run_on("2027-03-12");
    day("2027-03-16T12:00:00Z");  // a Tuesday
  }
  Desk desk_;
};

TEST_F(Versions, EachHasItsLineAndItsCommand) {
  a_week();
  Ran found = desk_({"find", "wardens", "budget"});
  ASSERT_EQ(found.exit, 0) << found.err;
  EXPECT_THAT(found.out, HasSubstr("points 1, 2, changed by Wed 2027-03-10"));
  EXPECT_THAT(found.out, HasSubstr("points 3, 4, gone since Fri 2027-03-12"));
  EXPECT_THAT(found.out, HasSubstr("point 5, in the newest point"));
  const std::string command = "kestrum restore wardens " + list() + " --at 2 --to .";
  EXPECT_THAT(found.out, HasSubstr(command));
  // It is ready to copy.
  ASSERT_EQ(
      std::system(("mkdir '" + (desk_.folder / "here") + "' && cd '" + (desk_.folder / "here") +
                   "' && KESTRUM_HOME='" + (desk_.folder / "home") + "' KESTRUM_NOW=2027-03-16T12:00:00Z " +
                   KESTRUM_BINARY + command.substr(7) + " > /dev/null 2>&1")
                      .c_str()),
      0);
  EXPECT_EQ(read_file(desk_.folder / "here/budget.csv"), "one\n");
  const Json json = Json::parse(desk_({"find", "wardens", "budget", "--json"}).out);
  ASSERT_EQ(json["versions"].size(), 3U);
  EXPECT_EQ(json["versions"][1]["points"], Json({1, 2}));
  EXPECT_EQ(json["versions"][1]["after"], "changed");
  EXPECT_EQ(json["versions"][2]["after"], "gone");
  EXPECT_EQ(json["versions"][2]["since"], "2027-03-12T20:30:00Z");
  EXPECT_EQ(json["hits"].size(), 1U);
  EXPECT_EQ(desk_({"find", "wardens", "nothing-like-it"}).exit, 0);
  // With a point: only what that has.
  EXPECT_THAT(desk_({"find", "wardens", "budget", "--at", "1"}).out, HasSubstr("1 hit"));
}

TEST_F(Versions, OddNamesAreQuotedAndTakenAsPrinted) {
  const std::string odd = desk_.source() + "/lists/it's\nodd \\ \xff.csv";
  write_file(odd, "odd\n");
  run_on("2027-03-08");
  Ran found = desk_({"find", "wardens", "odd"});
  const std::size_t at = found.out.find("kestrum restore");
  ASSERT_NE(at, std::string::npos) << found.out;
  const std::string command = found.out.substr(at + 7, found.out.find("--to .", at) - at - 7);
  ASSERT_EQ(std::system(("KESTRUM_HOME='" + (desk_.folder / "home") + "' " + KESTRUM_BINARY + command +
                         " --to '" + (desk_.folder / "back") + "' > /dev/null 2>&1")
                            .c_str()),
            0)
      << command;
  EXPECT_EQ(read_file((desk_.folder / "back/it's\nodd \\ \xff.csv")), "odd\n");
  // As it is, too.
  EXPECT_EQ(desk_({"restore", "wardens", odd, "--to", desk_.folder / "again"}).exit, 0);
}

TEST_F(Versions, ARestoreOfWhatIsGoneTakesTheLastOrSaysWhereItWas) {
  a_week();
  Ran taken = desk_({"restore", "wardens", list(), "--to", desk_.folder / "back"});
  EXPECT_EQ(taken.exit, 0) << taken.err;
  EXPECT_THAT(taken.err, HasSubstr("it was last in point 4"));
  EXPECT_THAT(taken.out, HasSubstr("Restored from point 4"));
  EXPECT_EQ(read_file(desk_.folder / "back/budget.csv"), "two!\n");
  for (const char* verb : {"restore", "browse"}) {
    std::vector<std::string> words{verb, "wardens", list(), "--at", "5"};
    if (std::string(verb) == "restore") words.insert(words.end(), {"--to", desk_.folder / "back"});
    Ran asked = desk_(words);
    EXPECT_EQ(asked.exit, 2);
    EXPECT_THAT(asked.err, HasSubstr("it was last in point 4"));
    EXPECT_THAT(asked.err, HasSubstr(std::string("kestrum ") + verb + " wardens " + list() + " --at 4"));
  }
  // Never there: the command to look for it names real things.
  Ran never =
      desk_({"restore", "wardens", desk_.source() + "/quite/elsewhere", "--to", desk_.folder / "back"});
  EXPECT_EQ(never.exit, 2);
  EXPECT_THAT(never.err, HasSubstr("kestrum find wardens elsewhere"));
  EXPECT_THAT(never.err, Not(HasSubstr("SUBJECT")));
}

TEST_F(Versions, SeveralDrivesAreLookedThrough) {
  const std::string second = desk_.folder / "second";
  fs::create_directories(second);
  ASSERT_EQ(
      desk_({"job", "edit", "wardens", "--where-destinations", desk_.drive(), "--where-destinations", second})
          .exit,
      0);
  run_on("2027-03-08");  // to one
  write_file(list(), "two!\n");
  run_on("2027-03-09");  // to the other
  fs::remove(list());
  run_on("2027-03-10");  // to the first again
  Ran found = desk_({"find", "wardens", "budget"});
  EXPECT_THAT(found.out, HasSubstr("drive:1, gone since Wed 2027-03-10"));
  EXPECT_THAT(found.out, HasSubstr("second:1, in the newest point"));
  EXPECT_THAT(found.out, HasSubstr("--at second:1 --to ."));
  ASSERT_EQ(desk_({"restore", "wardens", list(), "--to", desk_.folder / "back"}).exit, 0);
  EXPECT_EQ(read_file(desk_.folder / "back/budget.csv"), "two!\n");
}

TEST_F(Versions, ADriveWithADamagedPointIsLookedThroughAsFarAsItReads) {
  a_week();
  for (const auto& entry : fs::directory_iterator(desk_.set_folder(3)))
    if (entry.path().extension() == ".kvol") fs::remove(entry.path());
  Ran found = desk_({"find", "wardens", "budget"});
  EXPECT_EQ(found.exit, 1) << found.err;
  EXPECT_THAT(found.err, HasSubstr("not looked through: point 3"));
  EXPECT_THAT(found.out, HasSubstr("points 1, 2"));
}

TEST_F(Versions, WhatARunMadeOfThePointBefore) {
  a_week();
  chmod((desk_.source() + "/lists/other.csv").c_str(), 0600);
  run_on("2027-03-16");
  Ran moved = desk_({"history", "wardens", "--run", "5", "--files"});
  EXPECT_EQ(moved.exit, 0) << moved.err;
  EXPECT_THAT(moved.out, testing::ContainsRegex("gone +5 B +" + list()));
  EXPECT_THAT(moved.out, testing::ContainsRegex("new +5 B +" + desk_.source() + "/lists/Budget-2027.csv"));
  const Json changed = Json::parse(desk_({"history", "wardens", "--run", "3", "--files", "--json"}).out);
  ASSERT_EQ(changed["files"].size(), 1U);
  EXPECT_EQ(changed["files"][0]["change"], "changed");
  EXPECT_EQ(Json::parse(desk_({"history", "wardens", "--run", "1", "--files", "--json"}).out)["files"].size(),
            2U);
  EXPECT_EQ(Json::parse(desk_({"history", "wardens", "--run", "2", "--files", "--json"}).out)["files"].size(),
            0U);
  EXPECT_EQ(
      Json::parse(desk_({"history", "wardens", "--run", "6", "--files", "--json"}).out)["files"][0]["change"],
      "attributes");
  EXPECT_EQ(desk_({"history", "wardens", "--files"}).exit, 2);
  fs::rename(desk_.drive(), desk_.drive() + "-away");
  EXPECT_EQ(desk_({"history", "wardens", "--run", "5", "--files"}).exit, 5);
}

TEST_F(Versions, DaysAndTimesAsPeopleSayThem) {
  a_week();
  auto point = [&](const std::string& when) {
    Ran ran = desk_({"browse", "wardens", "/", "--at", when});
    return ran.exit == 0 ? ran.out.substr(6, 1) : "none: " + ran.err;
  };
  EXPECT_EQ(point("tuesday"), "5");  // today
  EXPECT_EQ(point("last tuesday"), "2");
  EXPECT_EQ(point("Wed"), "3");
  EXPECT_EQ(point("last week"), "5");
  EXPECT_EQ(point("thursday 09:10"), "3");
  EXPECT_EQ(point("Thursday 23:59"), "4");
  EXPECT_EQ(point("2027-03-10T09:00"), "2");
  EXPECT_THAT(point("last month"), HasSubstr("no point as early"));
  EXPECT_THAT(point("neverday"), HasSubstr("does not name a point in time"));
  day("2027-03-11T21:00:00Z");
  EXPECT_EQ(point("20:30"), "4");
  EXPECT_EQ(point("09:10"), "3");
  day("2027-03-11T08:00:00Z");
  EXPECT_EQ(point("09:10"), "2");  // yesterday's
  EXPECT_THAT(desk_({"points", "wardens"}).out, HasSubstr("Wed 2027-03-10 20:30"));
}

TEST_F(Versions, PathsFromWhereOneStands) {
  run_on("2027-03-08");
  const std::string go =
      "cd '" + desk_.source() + "/lists' && KESTRUM_HOME='" + (desk_.folder / "home") + "' ";
  const std::string to = " --to '" + (desk_.folder / "back") + "' > /dev/null 2>&1";
  EXPECT_EQ(
      std::system((go + KESTRUM_BINARY + " restore wardens budget.csv ../lists/other.csv" + to).c_str()), 0);
  EXPECT_EQ(read_file(desk_.folder / "back/budget.csv"), "one\n");
  EXPECT_TRUE(fs::exists(desk_.folder / "back/other.csv"));
  EXPECT_EQ(std::system((go + KESTRUM_BINARY + " browse wardens . > /dev/null 2>&1").c_str()), 0);
  // From the root, as before.
  EXPECT_EQ(desk_({"restore", "wardens", list().substr(1), "--to", desk_.folder / "root"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
