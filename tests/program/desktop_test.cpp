// Keeping out of the way and being polite: standby, battery, words at the desk, the machine afterwards. The
// session manager and the notification service are played on a bus of the test's own.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <sys/file.h>

#include "base/file_handle.hpp"
#include "program/agent_desk.hpp"
#include "support/bus_mocks.hpp"

namespace kestrum::test {
namespace {

using testing::Contains;
using testing::HasSubstr;
using testing::IsEmpty;
using testing::Not;
using Json = nlohmann::json;

class Desktop : public AgentTest {
 protected:
  // Whoever wants the machine to stay on reaches every countdown on it: one such test at a time.
  void SetUp() override {
    AgentTest::SetUp();
    const std::string path = std::filesystem::temp_directory_path() / "kestrum-desktop-tests.lock";
    machine_ = FileHandle(open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666));
    ASSERT_TRUE(machine_);
    ASSERT_EQ(flock(machine_.get(), LOCK_EX), 0);
  }
  void begin_bus(const std::vector<std::string>& options = {}) {
    bus_ = std::make_unique<BusMocks>(desk_.folder.path(), options);
    for (const char* name : {"DBUS_SESSION_BUS_ADDRESS", "DBUS_SYSTEM_BUS_ADDRESS"})
      desk_.program.environment[name] = bus_->address();
  }
  std::vector<std::string> calls() {
    std::vector<std::string> out;
    for (const Json& one : bus_->manager_calls()) out.push_back(one);
    return out;
  }
  std::vector<std::string> notices() {
    std::vector<std::string> out;
    for (const Json& one : bus_->notices()) {
      if (one.get<std::string>().starts_with("Notify")) out.push_back(one);
    }
    return out;
  }

  std::unique_ptr<BusMocks> bus_;
  FileHandle machine_;
};

TEST_F(Desktop, TheMachineIsKeptFromStandbyDuringARunAndOnlyThen) {
  begin_bus();
  make_slow();
  ASSERT_EQ(desk_.define({"--how-compression", "19"}, false).exit, 0);
  EXPECT_THAT(bus_->inhibitors(), IsEmpty());
  const pid_t run = desk_.program.start({"run", "wardens"});
  ASSERT_TRUE(comes([&] { return bus_->inhibitors().size() == 1; }));
  const Json held = bus_->inhibitors()[0];
  EXPECT_EQ(held[0], "sleep");
  EXPECT_EQ(held[1], "kestrum");
  EXPECT_THAT(held[2].get<std::string>(), HasSubstr("wardens"));
  EXPECT_EQ(held[3], "block");
  EXPECT_TRUE(goes());
  EXPECT_EQ(Program::wait(run), 0);
  EXPECT_TRUE(comes([&] { return bus_->inhibitors().empty(); }));
  // Also of one that is killed.
  const pid_t other = desk_.program.start({"run", "wardens", "--kind", "full"});
  ASSERT_TRUE(comes([&] { return bus_->inhibitors().size() == 1; }));
  kill(other, SIGKILL);
  Program::wait(other);
  EXPECT_TRUE(comes([&] { return bus_->inhibitors().empty(); }));
}

TEST_F(Desktop, OnBatteryARunThatIsDueWaits) {
  begin_bus({"--on-battery"});
  const Ran define =
      desk_({"job", "define", "moths", "--what-folders", desk_.source(), "--where-destinations",
             desk_.drive(), "--same-disk", "--protect-encryption", "none", "--when-runs", "daily at 20:30",
             "--when-hold-back", "on battery", "--how-write-limit", "5 MiB/s weekdays 08:00 to 18:00",
             "--around-afterwards", "standby"});
  EXPECT_THAT(define.out, HasSubstr("waits while the machine is on its battery"));
  EXPECT_THAT(define.out, HasSubstr("writes no faster than 5.0 MiB/s weekdays 08:00 to 18:00"));
  EXPECT_THAT(define.out, HasSubstr("after a run that went well the machine goes to standby"));
  ASSERT_EQ(desk_({"job", "remove", "moths"}).exit, 0);
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30", "--when-hold-back", "on battery"}, false).exit, 0);
  begin_agent();
  let_pass_to("2027-03-01T12:29:59Z");
  ASSERT_TRUE(comes([&] { return status()["jobs"][0]["waits-for"] == "held back"; }));
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("2027-03-01 12:3"));
  EXPECT_THAT(due(), Contains(HasSubstr("waits: because the machine is on battery or under load")));
  // By hand it runs: a person means it.
  bus_->plug_in();
  let_pass_to("2027-03-01T12:36:00Z");
  ASSERT_TRUE(ran(1));
  EXPECT_EQ(history()["runs"][0]["result"], "done");
}

TEST_F(Desktop, TheMachineGoesToStandbyAMinuteAfterItWasSaid) {
  begin_bus();
  clock_.go(60);
  ASSERT_EQ(desk_.define({"--around-afterwards", "standby"}, false).exit, 0);
  const Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0);
  EXPECT_THAT(run.err, HasSubstr("This machine goes to standby in 60 s"));
  EXPECT_THAT(run.err, HasSubstr("in 10 s"));
  EXPECT_THAT(calls(), Contains("Suspend False"));
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--around-afterwards", "switch off"}).exit, 0);
  desk_({"run", "wardens"});
  EXPECT_THAT(calls(), Contains("PowerOff False"));
  EXPECT_THAT(notices(), Contains(HasSubstr("This machine is about to rest")));
}

TEST_F(Desktop, AnybodyAtTheMachineCanHoldItOff) {
  begin_bus();
  ASSERT_EQ(desk_.define({"--around-afterwards", "switch off"}, false).exit, 0);
  EXPECT_THAT(desk_({"stay"}).out, HasSubstr("No run is about to"));
  const pid_t run = desk_.program.start({"run", "wardens"});
  ASSERT_TRUE(comes([&] { return desk_({"stay"}).out == "The machine stays on.\n"; }));
  EXPECT_EQ(Program::wait(run), 0);
  // Ctrl-C does it too.
  const pid_t other = desk_.program.start({"run", "wardens"});
  ASSERT_TRUE(comes([&] { return runs() == 2 && history()["runs"][0]["ended"] != nullptr; }));
  std::this_thread::sleep_for(std::chrono::milliseconds(300));
  kill(other, SIGINT);
  Program::wait(other);
  for (const std::string& call : calls()) EXPECT_THAT(call, Not(HasSubstr("PowerOff")));
}

TEST_F(Desktop, ItStaysOnAfterAFailureAndWhileSomethingIsDue) {
  begin_bus();
  clock_.go(60);
  ASSERT_EQ(desk_.define({"--around-afterwards", "standby"}, false).exit, 0);
  std::filesystem::rename(desk_.source(), desk_.folder / "elsewhere");
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 3);
  EXPECT_THAT(calls(), Not(Contains("Suspend False")));
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--around-afterwards-if-failed", "yes"}).exit, 0);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 3);
  EXPECT_THAT(calls(), Contains("Suspend False"));
  std::filesystem::rename(desk_.folder / "elsewhere", desk_.source());
  // Another one is due within minutes.
  clock_.set("2027-03-02T12:25:00Z", 60);
  ASSERT_EQ(
      desk_({"job", "define", "moths", "--what-folders", desk_.source(), "--where-destinations",
             desk_.drive(), "--same-disk", "--protect-encryption", "none", "--when-runs", "daily at 12:35"})
          .exit,
      0);
  const std::size_t before = calls().size();
  const Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0);
  EXPECT_THAT(run.err, HasSubstr("The machine stays on: moths is due at 2027-03-02 12:35"));
  std::vector<std::string> after = calls();
  after.erase(after.begin(), after.begin() + static_cast<std::ptrdiff_t>(before));
  EXPECT_THAT(after, Not(Contains("Suspend False")));
}

TEST_F(Desktop, ARefusalIsSaidAndTheRunStands) {
  begin_bus({"--refuse"});
  clock_.go(60);
  ASSERT_EQ(desk_.define({"--around-afterwards", "standby"}, false).exit, 0);
  const Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0);
  EXPECT_THAT(run.err,
              HasSubstr("The machine stays on: the machine does not go to standby: the seat says no"));
  desk_.program.environment["DBUS_SYSTEM_BUS_ADDRESS"] = "unix:path=/nowhere";
  EXPECT_THAT(desk_({"run", "wardens"}).err, HasSubstr("there is no system bus"));
}

TEST_F(Desktop, PeopleAreToldInWordsForThem) {
  begin_bus();
  ASSERT_EQ(desk_.define({"--tell-desktop", "every run", "--when-runs", "daily at 12:30"}, false).exit, 0);
  clock_.set("2027-03-01T12:30:00Z", 0);
  desk_({"run", "wardens"});
  EXPECT_THAT(notices(), IsEmpty()) << "what was before is no news";
  write_file(desk_.source() + "/counts.csv", "7,<b>Gannet</b>\n");
  clock_.set("2027-03-02T12:30:00Z", 0);
  desk_({"run", "wardens"});
  ASSERT_EQ(notices().size(), 1u);
  EXPECT_THAT(notices()[0], HasSubstr("\"Your files were saved\" \"1 changed file and 0 new ones.\""));
  // The drive stays away.
  std::filesystem::rename(desk_.drive(), desk_.folder / "away");
  clock_.set("2027-03-03T12:00:00Z", 0);
  begin_agent();
  let_pass_to("2027-03-03T12:31:00Z");
  ASSERT_TRUE(comes([&] { return status()["jobs"][0]["waits-for"] == "drive"; }));
  let_pass_to("2027-03-04T13:00:00Z");
  EXPECT_EQ(notices().size(), 1u) << "a day is given";
  let_pass_to("2027-03-04T15:00:00Z");
  ASSERT_TRUE(comes([&] { return notices().size() >= 2; }));
  EXPECT_THAT(notices()[1], HasSubstr("Please plug in the drive"));
  EXPECT_THAT(notices()[1], HasSubstr("the last copy is of Tue 2027-03-02, "));
  end_agent();
}

// Root talks to nobody's session by a process of nobody's: their bus takes no other.
TEST_F(Desktop, RootTellsThePersonWhoseFilesTheyAre) {
  if (geteuid() != 0) GTEST_SKIP() << "a session of another user needs root";
  const std::string command = "unshare --mount --propagation private '" + std::string(KESTRUM_SOURCE) +
                              "/tests/support/other_desk.sh' '" KESTRUM_BINARY "' '" + desk_.folder.path() +
                              "' 2>&1";
  std::string out;
  FILE* pipe = popen(command.c_str(), "r");
  char buffer[1024];
  for (std::size_t got = 0; (got = fread(buffer, 1, sizeof buffer, pipe)) > 0;) out.append(buffer, got);
  pclose(pipe);
  EXPECT_THAT(out, HasSubstr("\"Your files were saved\" \"0 changed files and 1 new one.\""));
}

TEST_F(Desktop, WhatNobodySawIsToldWhenSomebodyIsThere) {
  ASSERT_EQ(desk_.define({"--tell-desktop", "problems"}, false).exit, 0);
  desk_({"run", "wardens"});
  std::filesystem::rename(desk_.source(), desk_.folder / "elsewhere");
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 3);
  begin_bus();
  desk_({"tell"});
  ASSERT_EQ(notices().size(), 1u);
  EXPECT_THAT(notices()[0], HasSubstr("Your files could not be saved"));
  EXPECT_THAT(notices()[0], HasSubstr("Please tell whoever looks after this machine"));
  desk_({"tell"});
  EXPECT_EQ(notices().size(), 1u) << "once a day";
}

}  // namespace
}  // namespace kestrum::test
