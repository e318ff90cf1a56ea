// The agent under a clock that is wrong and set right: what it said meanwhile holds nothing up afterwards.
#include <fstream>
#include <set>

#include "ledger/due_book.hpp"
#include "program/agent_desk.hpp"

namespace kestrum::test {
namespace {

using testing::ElementsAre;
using testing::HasSubstr;

class AgentClock : public AgentTest {};

TEST_F(AgentClock, AClockAYearAheadAndBackStartsOneRun) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  begin_agent();
  clock_.run_to("2027-03-01T08:10:00Z", 600);
  clock_.set("2028-03-01T08:10:00Z", 1);
  ASSERT_TRUE(ran(2));
  clock_.set("2027-03-01T12:29:58Z", 1);
  ASSERT_TRUE(ran(3)) << "the times go on where the clock is right again";
  {
    // Of the year that never was nothing is kept.
    Ledger ledger(desk_.folder / "home/state/ledger.db");
    EXPECT_LE(DueBook(ledger).lines("wardens", 1000, *parse_utc("2029-01-01T00:00:00Z")).size(), 1u);
  }
  EXPECT_FALSE(comes([&] { return runs() > 3; }, 1));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 done, run 3"));
  // The day after that a second time: its line is of the right clock.
  let_pass_to("2027-03-02T12:29:59Z");
  ASSERT_TRUE(ran(4));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 done, run 3", "03-02 12:30 done, run 4"));
}

// What a clock set right by minutes has had already is not had again.
TEST_F(AgentClock, AClockSetBackByMinutesStartsNothingTwice) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  begin_agent();
  let_pass_to("2027-03-01T12:29:59Z");
  ASSERT_TRUE(ran(1));
  clock_.set("2027-03-01T12:28:00Z", 60);
  EXPECT_TRUE(comes([&] { return clock_.now() > *parse_utc("2027-03-01T12:33:00Z"); }));
  EXPECT_EQ(runs(), 1u);
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 done, run 1"));
}

// What a clock that was far ahead has warned of was said too soon: it is said again when its time comes.
TEST_F(AgentClock, AWarningThatAWrongClockGaveComesAgainInTime) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30", "--when-warn-after", "1 day"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  std::filesystem::rename(desk_.drive(), desk_.folder / "away");
  begin_agent();
  const auto warnings = [&] {
    Ledger ledger(desk_.folder / "home/state/ledger.db");
    std::size_t count = 0;
    for (const AgentEvent& event : DueBook(ledger).events(1000)) count += event.what == "warned" ? 1 : 0;
    return count;
  };
  clock_.set("2027-06-01T09:00:00Z", 1);
  ASSERT_TRUE(comes([&] { return warnings() == 1; }));
  clock_.set("2027-03-01T08:10:00Z", 1);
  EXPECT_TRUE(comes([&] { return status()["jobs"][0]["waits-for"] == nullptr; }));
  EXPECT_EQ(warnings(), 1u);
  let_pass_to("2027-03-02T07:59:00Z");
  EXPECT_TRUE(comes([&] { return warnings() == 2; }));
}

// Lines of a time that never was, of which the job's times were edited before they came.
TEST_F(AgentClock, LinesOfAWrongClockEndWhenTheirMomentsCome) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 11:15"}).exit, 0);
  begin_agent();
  const auto times_until = [&](const std::string& utc) {
    Ledger ledger(desk_.folder / "home/state/ledger.db");
    std::set<std::int64_t> times;
    for (const DueLine& line : DueBook(ledger).lines("wardens", 1000, *parse_utc("2027-06-02T00:00:00Z"))) {
      if (line.when < *parse_utc(utc)) times.insert(line.when.seconds % (24 * 3600));
    }
    return times;
  };
  constexpr std::int64_t quarter_past_eleven = 40500, half_past_twelve = 45000;
  clock_.set("2027-06-01T09:00:00Z", 1);
  ASSERT_TRUE(comes([&] { return !times_until("2027-06-01T00:00:00Z").empty(); }));
  // It does not see the clock go back.
  end_agent(SIGKILL);
  clock_.set("2027-03-01T08:10:00Z", 1);
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--when-runs", "daily at 12:30"}).exit, 0);
  EXPECT_THAT(times_until("2027-03-03T12:00:00Z"), ElementsAre(quarter_past_eleven));
  begin_agent();
  let_pass_to("2027-03-03T12:29:59Z");
  EXPECT_TRUE(comes([&] {
    const std::set<std::int64_t> times = times_until("2027-03-03T12:00:00Z");
    return times == std::set<std::int64_t>{half_past_twelve};
  })) << times_until("2027-03-03T12:00:00Z").size();
}

// A run that failed under it is not waited for until that time comes.
TEST_F(AgentClock, AStartThatFailedUnderAWrongClockIsNoReasonToWait) {
  make_slow();
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30", "--how-compression", "19"}).exit, 0);
  begin_agent();
  clock_.set("2028-03-01T12:29:59Z", 1);
  ASSERT_TRUE(comes([&] { return goes(); }));
  ASSERT_EQ(std::system(("pkill -9 -f 'agent-run.*wardens' -P " + std::to_string(agent_)).c_str()), 0);
  ASSERT_TRUE(comes([&] { return history()["runs"][0]["result"] == "failed"; }));
  std::filesystem::remove(desk_.source() + "/calls.wav");
  clock_.set("2027-03-01T12:29:58Z", 1);
  EXPECT_TRUE(ran(2)) << status().dump();
  EXPECT_EQ(history()["runs"][0]["result"], "done");
}

// Machines begin with a clock that the network sets right: what is made up for waits for the machine to come
// to rest, and not for that other time.
TEST_F(AgentClock, WhatIsMissedIsMadeUpForWhereTheMachineBeganInAnotherYear) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  begin_agent();
  end_agent();
  clock_.set("2028-03-03T11:00:00Z", 0);
  begin_agent();
  clock_.set("2027-03-03T11:00:00Z", 60);
  EXPECT_TRUE(ran(2)) << status().dump();
}

// And times that were made known under it count all the same.
TEST_F(AgentClock, ANewJobOfAWrongClockRunsAtItsTimes) {
  begin_agent();
  clock_.set("2028-03-03T11:00:00Z", 1);
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  // The agent has read it.
  std::this_thread::sleep_for(std::chrono::milliseconds(500));
  clock_.set("2027-03-01T12:29:58Z", 1);
  EXPECT_TRUE(ran(1)) << status().dump();
}

// Kept in memory while the disk was full, and again in the ledger as soon as there is room.
TEST_F(AgentClock, TheLedgerIsUsedAgainThoughItWasFullInAnotherYear) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  const std::string state = desk_.folder / "home/state";
  ASSERT_EQ(std::system(("mount -t tmpfs -o size=64k none '" + state + "'").c_str()), 0);
  write_file(state + "/agent.lock", "");
  {
    std::ofstream fill(state + "/fill");
    const std::string page(4096, 'x');
    while (fill.write(page.data(), 4096).flush()) {
    }
  }
  clock_.set("2028-03-01T11:00:00Z", 1);
  agent_ = desk_.program.start({"agent"});
  std::this_thread::sleep_for(std::chrono::milliseconds(500));
  EXPECT_EQ(std::system(("umount -l '" + state + "'").c_str()), 0);
  clock_.set("2027-03-01T12:29:58Z", 1);
  EXPECT_TRUE(ran(1));
  EXPECT_TRUE(comes([&] { return !due().empty(); }));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 done, run 1"));
}

}  // namespace
}  // namespace kestrum::test
