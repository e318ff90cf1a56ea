// The agent: runs at their times, once each, whatever happens to it, to them and to the clock.
#include <fstream>

#include "ledger/due_book.hpp"
#include "program/agent_desk.hpp"

namespace kestrum::test {
namespace {

using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

class Agent : public AgentTest {};

TEST_F(Agent, RunsAtItsTimesAndSaysSo) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  begin_agent();
  Ran before = desk_({"status"});
  EXPECT_THAT(before.out, HasSubstr("2027-03-01 12:30"));
  clock_.run_to("2027-03-01T12:29:59Z", 20000);
  EXPECT_EQ(runs(), 0u);
  clock_.go(1);
  ASSERT_TRUE(ran(1));
  let_pass_to("2027-03-02T12:29:59Z");
  ASSERT_TRUE(ran(2));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 done, run 1", "03-02 12:30 done, run 2"));
  EXPECT_EQ(end_agent(), 0);
  EXPECT_EQ(status()["agent"], false);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("No agent runs here"));
}

TEST_F(Agent, ASecondOneIsRefusedAndToldWhoIsThere) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  begin_agent();
  Ran second = desk_({"agent"});
  EXPECT_EQ(second.exit, 6);
  EXPECT_THAT(second.err, HasSubstr("process " + std::to_string(agent_)));
  Ran round = desk_({"run", "--due"});
  EXPECT_EQ(round.exit, 6);
  // The place is free once it is gone, however it went.
  end_agent(SIGKILL);
  EXPECT_EQ(desk_({"run", "--due"}).exit, 0);
}

TEST_F(Agent, ManyMissedRunsAreMadeUpForByOneOnceTheMachineHasSettled) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30", "--when-runs", "tuesdays at 20:00 full"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  clock_.set("2027-03-04T09:00:00Z", 0);
  begin_agent();
  clock_.run_to("2027-03-04T09:02:50Z", 60);
  EXPECT_EQ(runs(), 1u) << "it has been up for less than three minutes";
  clock_.go(60);
  ASSERT_TRUE(ran(2));
  EXPECT_EQ(history()["runs"][0]["kind"], "full") << "one of those that were missed was to be full";
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 2", "03-02 12:30 made up for by run 2",
                                 "03-02 20:00 made up for by run 2", "03-03 12:30 made up for by run 2"));
}

TEST_F(Agent, SkipMeansThatNothingIsMadeUpFor) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30", "--when-if-missed", "skip"}).exit, 0);
  clock_.set("2027-03-03T09:00:00Z", 0);
  begin_agent();
  ASSERT_TRUE(comes([&] { return due().size() == 2; }));
  clock_.run_to("2027-03-03T12:29:59Z", 20000);
  EXPECT_EQ(runs(), 0u);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("due on 2027-03-02 12:30, not run"));
  clock_.go(1);
  ASSERT_TRUE(ran(1));
  EXPECT_THAT(due(), ElementsAre(HasSubstr("missed: nobody was there"), HasSubstr("missed: nobody was there"),
                                 "03-03 12:30 done, run 1"));
}

TEST_F(Agent, KilledInMidRunItsRunGoesOnAndIsNotMadeAgain) {
  begin_slow_run_at_noon();
  end_agent(SIGKILL);
  EXPECT_TRUE(goes()) << "the run is a process of its own";
  begin_agent();
  ASSERT_TRUE(ran(1));
  clock_.go(60);
  EXPECT_FALSE(comes([&] { return runs() > 1; }, 5));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 done, run 1"));
}

TEST_F(Agent, ARunThatWasKilledWithItsAgentIsRecordedAndMadeUpFor) {
  begin_slow_run_at_noon();
  // As when the power goes.
  kill(agent_, SIGSTOP);
  ASSERT_EQ(std::system(("pkill -9 -f 'agent-run.*wardens' -P " + std::to_string(agent_)).c_str()), 0);
  end_agent(SIGKILL);
  clock_.set("2027-03-01T14:00:00Z", 60);
  begin_agent();
  ASSERT_TRUE(ran(2));
  const Json all = history()["runs"];
  EXPECT_EQ(all[1]["result"], "failed");
  EXPECT_THAT(all[1]["message"].get<std::string>(), HasSubstr("cut off"));
  EXPECT_EQ(all[0]["result"], "done");
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 2"));
}

// The agent saw it: that run has failed, and the next one comes at its time.
TEST_F(Agent, ARunThatDiesAloneHasFailed) {
  begin_slow_run_at_noon();
  ASSERT_EQ(std::system(("pkill -9 -f 'agent-run.*wardens' -P " + std::to_string(agent_)).c_str()), 0);
  ASSERT_TRUE(comes([&] { return history()["runs"][0]["result"] == "failed"; }));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 failed, run 1"));
  EXPECT_EQ(desk_({"status"}).exit, 1);
}

TEST_F(Agent, EndedItStopsItsRunsCleanlyAndTheNextOneMakesUpForThem) {
  begin_slow_run_at_noon();
  EXPECT_EQ(end_agent(SIGTERM), 0);
  EXPECT_EQ(history()["runs"][0]["result"], "stopped");
  EXPECT_THAT(due(), ElementsAre(HasSubstr("waits")));
  clock_.set("2027-03-01T14:00:00Z", 60);
  begin_agent();
  ASSERT_TRUE(ran(2));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 2"));
}

TEST_F(Agent, ABadEditKeepsTheLastGoodFormAndSaysSo) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  begin_agent();
  const std::string file = desk_.folder / "home/jobs/wardens.toml";
  // It is there before it has read its jobs; a form it never saw cannot count.
  ASSERT_TRUE(
      comes([&] { return std::filesystem::exists(desk_.folder / "home/state/last-good/wardens.toml"); }));
  const std::string good = read_file(file);
  write_file(file, good + "\n[wehn]\nruns = 3\n");
  Ran status = desk_({"status"});
  EXPECT_EQ(status.exit, 1);
  EXPECT_THAT(status.out, HasSubstr("last good form counts"));
  // Also over a new start.
  end_agent();
  begin_agent();
  let_pass_to("2027-03-01T12:29:59Z");
  ASSERT_TRUE(ran(1));
  EXPECT_EQ(history()["runs"][0]["result"], "done with problems");
  write_file(file, good);
  EXPECT_TRUE(comes([&] { return desk_({"status"}).out.find("last good form") == std::string::npos; }));
}

TEST_F(Agent, ANewTimeCountsFromThenOn) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  begin_agent();
  clock_.run_to("2027-03-01T11:00:00Z", 20000);
  ASSERT_EQ(
      desk_({"job", "edit", "wardens", "--when-runs", "daily at 10:00", "--when-runs", "daily at 11:10"})
          .exit,
      0);
  clock_.run_to("2027-03-01T11:09:59Z", 2000);
  EXPECT_EQ(runs(), 0u) << "ten o'clock was before it was said";
  clock_.go(1);
  ASSERT_TRUE(ran(1)) << "without a new start of the agent";
  clock_.run_to("2027-03-01T13:00:00Z", 20000);
  EXPECT_FALSE(comes([&] { return runs() > 1; }, 1)) << "half past twelve is no time of it any more";
  EXPECT_THAT(due(), ElementsAre("03-01 11:10 done, run 1"));
}

TEST_F(Agent, OneBadJobStopsNoOther) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  write_file(desk_.folder / "home/jobs/broken.toml", "nonsense\n");
  begin_agent();
  let_pass_to("2027-03-01T12:29:59Z");
  EXPECT_TRUE(ran(1));
}

TEST_F(Agent, AJobThatIsTakenAwayOrDisabledIsNotRun) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  std::filesystem::rename(desk_.drive(), desk_.drive() + "-away");
  begin_agent();
  clock_.run_to("2027-03-01T12:31:00Z", 20000);
  ASSERT_TRUE(comes([&] { return due().size() == 1; }));
  ASSERT_EQ(desk_({"job", "disable", "wardens"}).exit, 0);
  EXPECT_TRUE(comes([&] { return due()[0].find("skipped") != std::string::npos; }));
  clock_.run_to("2027-03-02T08:00:00Z", 20000);
  ASSERT_EQ(desk_({"job", "enable", "wardens"}).exit, 0);
  EXPECT_FALSE(comes([&] { return runs() > 0; }, 1));
}

TEST_F(Agent, WhatIsDueOutsideOfItsHoursWaitsForThem) {
  ASSERT_EQ(desk_
                .define({"--when-runs", "every 60 minutes", "--when-only-between", "22:00 to 06:00",
                         "--when-not-on", "2027-03-01"})
                .exit,
            0);
  begin_agent();
  clock_.run_to("2027-03-01T23:59:58Z", 20000);
  EXPECT_EQ(runs(), 0u);
  EXPECT_THAT(desk_({"schedule"}).out,
              HasSubstr("waits for the hours in which runs may start, until Tue 2027-03-02 00:00"));
  clock_.go(1);
  ASSERT_TRUE(ran(1));
  const std::vector<std::string> lines = due();
  ASSERT_EQ(lines.size(), 16u);
  EXPECT_EQ(lines.back(), "03-02 00:00 done, run 1");
  EXPECT_EQ(lines.front(), "03-01 09:00 made up for by run 1");
}

// Killed after it has told somebody to start a run, and before that began.
TEST_F(Agent, AStartThatNobodyTookIsMadeByTheNextAgent) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  std::filesystem::rename(desk_.drive(), desk_.drive() + "-away");
  begin_agent();
  clock_.run_to("2027-03-01T12:31:00Z", 20000);
  ASSERT_TRUE(comes([&] { return due().size() == 1; }));
  end_agent(SIGKILL);
  std::int64_t start = 0;
  {
    Ledger ledger(desk_.folder / "home/state/ledger.db");
    DueBook book(ledger);
    start = book.prepare_start(book.waiting());
  }
  std::filesystem::rename(desk_.drive() + "-away", desk_.drive());
  clock_.go(60);
  begin_agent();
  ASSERT_TRUE(ran(1));
  // The one that was told first comes too late, and makes nothing.
  EXPECT_EQ(desk_({"agent-run", "--start", std::to_string(start), "wardens"}).exit, 0);
  EXPECT_EQ(runs(), 1u);
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 1"));
}

// A state folder in which nothing can be kept is no reason to start nothing.
TEST_F(Agent, AFullStateFolderStopsNoRun) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  begin_agent();
  const std::string state = desk_.folder / "home/state";
  ASSERT_EQ(std::system(("mount -t tmpfs -o size=64k none '" + state + "'").c_str()), 0);
  const auto back = [&] { return std::system(("umount -l '" + state + "'").c_str()); };
  end_agent(SIGKILL);
  const std::string words = state + "/agent.lock";
  write_file(words, "");
  {
    // Up to the last byte.
    std::ofstream fill(state + "/fill");
    const std::string page(4096, 'x');
    while (fill.write(page.data(), 4096).flush()) {
    }
  }
  agent_ = desk_.program.start({"agent"});
  let_pass_to("2027-03-01T12:29:59Z");
  EXPECT_TRUE(
      comes([&] { return std::filesystem::exists(desk_.job_folder()) && !desk_.set_folder(1).empty(); }));
  end_agent();
  EXPECT_EQ(back(), 0);
}

TEST_F(Agent, ARoundByOnesOwnTimer) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  EXPECT_THAT(desk_({"run", "--due"}).out, HasSubstr("Nothing is due"));
  clock_.set("2027-03-02T13:00:00Z", 0);
  EXPECT_EQ(desk_({"run", "--due"}).exit, 0);
  EXPECT_THAT(desk_({"run", "--due"}).out, HasSubstr("Nothing is due"));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 1", "03-02 12:30 made up for by run 1"));
  EXPECT_EQ(desk_({"run", "--due", "wardens"}).exit, 2);
}

// Somebody who ran it by hand has made up for it.
TEST_F(Agent, ARunByHandMakesUpForWhatWasMissed) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  clock_.set("2027-03-01T14:00:00Z", 0);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("due on 2027-03-01 12:30, not run"));
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk_({"status"}).exit, 0) << desk_({"status"}).out;
  begin_agent();
  clock_.go(200);
  EXPECT_FALSE(comes([&] { return runs() > 1; }, 2));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 1"));
}

}  // namespace
}  // namespace kestrum::test
