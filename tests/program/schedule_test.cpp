// The coming runs: as the agent would start them, and the same in a calendar file.
#include "base/text.hpp"
#include "program/agent_desk.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;

class Schedules : public AgentTest {
 protected:
  Schedules() {
    desk_.program.environment["TZ"] = "Europe/London";
    clock_.set("2027-03-26T08:00:00Z", 0);
  }
  Json schedule(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words{"schedule", "--json"};
    words.insert(words.end(), more.begin(), more.end());
    return Json::parse(desk_(words).out);
  }
};

// Clocks go forward on 28 March and back on 31 October.
TEST_F(Schedules, TheCalendarFileShowsTheSameTimesAcrossClockChanges) {
  ASSERT_EQ(desk_
                .define({"--when-runs", "daily at 01:30", "--when-runs", "sundays at 12:00 full",
                         "--when-not-on", "2027-04-02"})
                .exit,
            0);
  const std::string file = desk_.folder / "runs.ics", out = desk_.folder / "times.txt";
  Ran written = desk_({"schedule", "--days", "250", "--ics", file});
  ASSERT_EQ(written.exit, 0) << written.err;
  ASSERT_EQ(std::system(("/usr/bin/python3 '" KESTRUM_SOURCE "/tests/support/calendar_times.py' '" + file +
                         "' > '" + out + "'")
                            .c_str()),
            0);
  std::string expected;
  const Json runs = schedule({"--days", "250"})["runs"];
  for (const Json& run : runs) expected += run["starts"].get<std::string>() + "\n";
  EXPECT_EQ(read_file(out), expected);
  EXPECT_GT(runs.size(), 270u);
  EXPECT_THAT(expected, HasSubstr("2027-03-27T01:30:00Z\n"));
  EXPECT_THAT(expected, HasSubstr("2027-03-28T01:00:00Z\n"))
      << "half past one is skipped: it happens at the change";
  EXPECT_THAT(expected, HasSubstr("2027-03-29T00:30:00Z\n"));
  EXPECT_THAT(expected, HasSubstr("2027-10-31T00:30:00Z\n")) << "that comes twice: the first time";
  EXPECT_THAT(expected, HasSubstr("2027-11-01T01:30:00Z\n"));
  EXPECT_THAT(expected, testing::Not(HasSubstr("2027-04-02T00:30")));
}

TEST_F(Schedules, KindsLengthsAndWhoFollowsWhom) {
  for (const char* name : {"lists", "moths"})
    ASSERT_EQ(
        desk_({"job", "define", name, "--what-folders", desk_.source(), "--where-destinations", desk_.drive(),
               "--same-disk", "--protect-encryption", "none", "--when-runs", "daily at 12:30"})
            .exit,
        0);
  ASSERT_EQ(desk_({"run", "lists"}).exit, 0);
  const Json runs = schedule({"--days", "2"})["runs"];
  ASSERT_EQ(runs.size(), 4u);
  EXPECT_EQ(runs[0]["job"], "lists");
  EXPECT_EQ(runs[0]["kind"], "incremental");
  EXPECT_EQ(runs[1]["job"], "moths");
  EXPECT_EQ(runs[1]["kind"], "full") << "its first set";
  EXPECT_EQ(schedule({"lists", "--days", "1"})["runs"].size(), 1u);
  // A pause moves what comes in it to its end; without an end nothing comes.
  ASSERT_EQ(desk_({"pause", "lists", "--for", "6 hours"}).exit, 0);
  EXPECT_EQ(schedule({"lists", "--days", "1"})["runs"][0]["starts"], "2027-03-26T14:00:00Z");
  ASSERT_EQ(desk_({"pause", "lists"}).exit, 0);
  EXPECT_EQ(schedule({"lists", "--days", "1"})["runs"].size(), 0u);
  EXPECT_EQ(desk_({"schedule", "nobody"}).exit, 2);
  EXPECT_EQ(desk_({"schedule", "--days", "0"}).exit, 2);
}

TEST_F(Schedules, BadWindowsAndTimesThatNeverMeet) {
  Ran never = desk_.define({"--when-runs", "daily at 12:30", "--when-not-on", "01-01 to 12-31"});
  EXPECT_EQ(never.exit, 2);
  EXPECT_THAT(never.err, HasSubstr("would never start by itself"));
  Ran empty = desk_.define({"--when-only-between", "06:00 to 06:00"});
  EXPECT_EQ(empty.exit, 2);
  EXPECT_THAT(empty.err, HasSubstr("they never open"));
  Ran apart = desk_.define({"--when-runs", "daily at 12:30", "--when-only-between", "22:00 to 06:00"});
  EXPECT_EQ(apart.exit, 0);
  EXPECT_THAT(apart.err, HasSubstr("never falls into the hours"));
}

}  // namespace
}  // namespace kestrum::test
