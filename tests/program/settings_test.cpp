// settings show, check, set, and that they count.
#include <gmock/gmock.h>

#include "program/agent_desk.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;
using testing::Not;
using Json = nlohmann::json;

class SettingsVerbs : public AgentTest {
 protected:
  std::string file() const { return desk_.folder / "home/settings.toml"; }
};

TEST_F(SettingsVerbs, AreSetWhereTheyStandAndShown) {
  EXPECT_THAT(desk_({"settings", "show"}).out, HasSubstr("nothing is set, the usual holds"));
  EXPECT_EQ(desk_({"settings", "check"}).exit, 0);
  ASSERT_EQ(desk_({"settings", "set", "--logs-number", "50 logs"}).exit, 0);
  struct stat status {};
  ASSERT_EQ(stat(file().c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0600u);
  write_file(file(), "# ours\n" + read_file(file()) + "age = \"2 months\"  # enough\n");
  const Ran set = desk_({"settings", "set", "--runs-side-by-side", "3", "--usual", "logs-number"});
  EXPECT_EQ(set.exit, 0) << set.err;
  EXPECT_EQ(read_file(file()),
            "# ours\n[logs]\nage = \"2 months\"  # enough\n[runs]\nside-by-side = \"3\"\n");
  const Json json = Json::parse(desk_({"settings", "show", "--json"}).out);
  EXPECT_EQ(json["settings"]["runs"]["side-by-side"], "3");
  EXPECT_EQ(json["settings"]["logs"]["number"], nullptr);
  EXPECT_THAT(desk_({"suggest", "--", "settings", "set", "--mail-se"}).out, HasSubstr("--mail-security"));
  EXPECT_THAT(desk_({"suggest", "--", "settings", "set", "--usual", "mail-se"}).out,
              HasSubstr("mail-security"));
}

TEST_F(SettingsVerbs, WhatIsWrongIsSaidAndNothingIsChanged) {
  EXPECT_EQ(desk_({"settings", "set"}).exit, 2);
  EXPECT_THAT(desk_({"settings"}).err, HasSubstr("settings show, check, set"));
  EXPECT_THAT(desk_({"settings", "set", "--mail-to", "office"}).err, HasSubstr("is no mail address"));
  EXPECT_THAT(desk_({"settings", "set", "--mail-to", "office@skerrypoint.example"}).err,
              HasSubstr("does not say which server"));
  EXPECT_THAT(desk_({"settings", "set", "--usual", "mail-sevrer"}).err,
              HasSubstr("did you mean mail-server?"));
  EXPECT_FALSE(std::filesystem::exists(file()));
  write_file(desk_.folder / "home/settings.toml", "[mail]\nserver = 3.5\n");
  const Ran check = desk_({"settings", "check"});
  EXPECT_EQ(check.exit, 2);
  EXPECT_THAT(check.err, HasSubstr("settings.toml:2:10: [mail] server takes a text in quotes"));
  EXPECT_EQ(desk_({"settings", "set", "--logs-number", "5 logs"}).exit, 2);
  EXPECT_EQ(read_file(file()), "[mail]\nserver = 3.5\n");
  // A job runs all the same.
  ASSERT_EQ(desk_.define({}, false).exit, 0);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
}

TEST_F(SettingsVerbs, WhoMayReadThemIsSaid) {
  ASSERT_EQ(desk_({"settings", "set", "--logs-number", "50 logs"}).exit, 0);
  EXPECT_THAT(desk_({"settings", "check"}).out, Not(HasSubstr("everybody")));
  chmod(file().c_str(), 0644);
  EXPECT_THAT(desk_({"settings", "check"}).out,
              HasSubstr("everybody on this machine can read it too: chmod 600"));
}

TEST_F(SettingsVerbs, LogsAreKeptAsTheySay) {
  ASSERT_EQ(desk_({"settings", "set", "--logs-number", "32 logs"}).exit, 0);
  ASSERT_EQ(desk_.define({}, false).exit, 0);
  for (int run = 0; run < 36; ++run) desk_({"run", "wardens", "--quiet"});
  std::size_t logs = 0;
  for (const auto& entry : std::filesystem::directory_iterator(desk_.folder / "home/state/logs/wardens"))
    logs += entry.path().extension() == ".log" ? 1 : 0;
  EXPECT_LE(logs, 33u);
  EXPECT_GE(logs, 31u);
}

// The agent takes them over while it runs.
TEST_F(SettingsVerbs, OneRunAtATimeWhereTheySaySo) {
  ASSERT_EQ(desk_({"settings", "set", "--runs-side-by-side", "1"}).exit, 0);
  make_slow();
  std::filesystem::create_directories(desk_.folder / "mount");
  for (const char* job : {"lists", "moths"}) {
    std::filesystem::create_directories(desk_.folder / job);
    ASSERT_EQ(desk_({"job", "define", job, "--what-folders", desk_.source(), "--where-destinations",
                     desk_.folder / job, "--same-disk", "--protect-encryption", "none", "--when-runs",
                     "daily at 12:30", "--how-compression", "19"})
                  .exit,
              0);
  }
  begin_agent();
  let_pass_to("2027-03-01T12:29:59Z");
  ASSERT_TRUE(ran(1, "lists") && ran(1, "moths"));
  const Json first = history("lists")["runs"][0], second = history("moths")["runs"][0];
  const bool apart = first["ended"] <= second["started"] || second["ended"] <= first["started"];
  EXPECT_TRUE(apart) << first << second;
}

// A limit holds whatever the machine could do.
TEST_F(SettingsVerbs, ASlowRunIsStillGoingAndCanBeStopped) {
  write_file(desk_.source() + "/calls.wav", std::string(4u << 20, 'x'));
  for (const char* key : {"--how-read-limit", "--how-write-limit"}) {
    desk_({"job", "remove", "wardens"});
    write_file(desk_.source() + "/noise", read_file("/proc/self/exe").substr(0, 3u << 20));
    ASSERT_EQ(desk_.define({key, "100 KiB/s"}, false).exit, 0);
    const pid_t run = desk_.program.start({"run", "wardens"});
    ASSERT_TRUE(comes([&] { return goes(); })) << key;
    std::this_thread::sleep_for(std::chrono::seconds(3));
    EXPECT_TRUE(goes()) << key;
    kill(run, SIGINT);
    EXPECT_EQ(Program::wait(run), 11) << key;
  }
}

}  // namespace
}  // namespace kestrum::test
