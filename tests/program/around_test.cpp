// Commands around a run: what they are told, when they run, and what becomes of the run when they fail.
#include <gmock/gmock.h>

#include <thread>

#include "program/agent_desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

using testing::AllOf;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;

class Around : public testing::Test {
 protected:
  Around() { write_file(desk_.source() + "/counts.csv", "3,Gannet\n"); }
  void define(std::vector<std::string> more) {
    Ran defined = desk_.define(more, false);
    ASSERT_EQ(defined.exit, 0) << defined.err;
  }
  std::string file(const std::string& name) const { return desk_.folder / name; }
  // Writes the variables that a command is given into a file of that name.
  std::string told(const std::string& name) const { return "env | grep ^KESTRUM_ | sort > " + file(name); }
  std::string log(int run = 1) {
    return read_file(desk_.folder / "home/state/logs/wardens/run-" + std::to_string(run) + ".log");
  }
  std::string result(const std::string& more = "") {
    const nlohmann::json runs = nlohmann::json::parse(desk_({"history", "wardens", "--json"}).out)["runs"];
    return runs.empty() ? "none" : runs[0]["result"].get<std::string>() + more;
  }
  bool is_there(const std::string& name) const { return std::filesystem::exists(file(name)); }

  Desk desk_;
};

TEST_F(Around, EachIsToldOfTheRunAndItsOutputIsInTheLog) {
  define({"--around-before", told("before") + "; echo dumping", "--around-after",
          told("after") + "; echo tidied >&2", "--around-after-failure", told("failed")});
  Ran run = desk_({"run", "wardens"});
  ASSERT_EQ(run.exit, 0) << run.err;
  EXPECT_THAT(read_file(file("before")),
              AllOf(HasSubstr("KESTRUM_JOB=wardens\n"), HasSubstr("KESTRUM_WHEN=before\n"),
                    HasSubstr("KESTRUM_MACHINE="), Not(HasSubstr("KESTRUM_RESULT="))));
  EXPECT_THAT(read_file(file("after")),
              AllOf(HasSubstr("KESTRUM_RESULT=done\n"), HasSubstr("KESTRUM_EXIT_CODE=0\n"),
                    HasSubstr("KESTRUM_POINT=1\n"), HasSubstr("KESTRUM_RUN=1\n"),
                    HasSubstr("KESTRUM_FILES=1\n"), HasSubstr("KESTRUM_NEW_FILES=1\n"),
                    HasSubstr("KESTRUM_PROBLEMS=0\n"), HasSubstr("KESTRUM_DESTINATION=" + desk_.drive()),
                    HasSubstr("KESTRUM_SET_FOLDER=" + desk_.drive())));
  EXPECT_FALSE(is_there("failed"));
  EXPECT_THAT(log(), AllOf(HasSubstr("before: dumping"), HasSubstr("before: the command ended well"),
                           HasSubstr("after: tidied")));
}

// A dump that the command makes is in the point that this very run makes.
TEST_F(Around, WhatTheCommandMakesIsSavedByThisRun) {
  define({"--around-before", "cp " + desk_.source() + "/counts.csv " + desk_.source() + "/counts.copy"});
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_THAT(desk_({"find", "wardens", "counts.copy"}).out, HasSubstr("counts.copy"));
}

TEST_F(Around, ARunGivesUpWhereItsCommandFailsAndSaysHowToGoOn) {
  define({"--around-before", "echo no such table >&2; exit 3", "--around-after", told("after"),
          "--around-after-failure", told("failed")});
  Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 3);
  EXPECT_THAT(run.err,
              AllOf(HasSubstr("the command before the run failed: it ended with exit code 3 and said: no "
                              "such table"),
                    HasSubstr("--around-if-before-fails 'go on'")));
  EXPECT_TRUE(desk_.set_folder(1).empty());
  EXPECT_THAT(read_file(file("failed")),
              AllOf(HasSubstr("KESTRUM_WHEN=after-failure\n"), HasSubstr("KESTRUM_RESULT=failed\n"),
                    HasSubstr("KESTRUM_POINT=\n"), HasSubstr("KESTRUM_MESSAGE=the command before")));
  EXPECT_THAT(read_file(file("after")), HasSubstr("KESTRUM_EXIT_CODE=3\n"));
  // As the job may choose.
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--around-if-before-fails", "go on"}).exit, 0);
  run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 1);
  EXPECT_THAT(run.err, HasSubstr("could not run the command before the run: it ended with exit code 3"));
  EXPECT_EQ(result(), "done with problems");
}

TEST_F(Around, ACommandAfterThatFailsIsAProblemOfARunThatIsDone) {
  define({"--around-after", "/no/such/program"});
  Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 1);
  EXPECT_THAT(run.err, HasSubstr("could not run the command after the run: it ended with exit code 127"));
  EXPECT_EQ(result(), "done with problems");
  EXPECT_THAT(desk_({"history", "wardens", "--run", "1"}).out, HasSubstr("the command after the run"));
}

// One that hangs, one that leaves something running, one that says gigabytes, one that says no text.
TEST_F(Around, CommandsThatDoNotBehaveHoldNothingUp) {
  define({"--around-before",
          "head -c 300000000 /dev/zero; printf '\\033[2Jred\\001\\n'; (sleep 30 &) ; exit 0"});
  const auto begun = std::chrono::steady_clock::now();
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_LT(std::chrono::steady_clock::now() - begun, std::chrono::seconds(60));
  EXPECT_LT(log().size(), 64u << 10);
  EXPECT_THAT(log(), AllOf(Not(HasSubstr("\033")), HasSubstr("red")));
}

// It is not broken off by the stop, and what `before` has begun is put in order.
TEST_F(Around, AfterRunsAlsoAfterAStop) {
  define({"--around-before", "touch " + file("begun") + "; sleep 60", "--around-after",
          "sleep 1; " + told("after"), "--around-after-failure", told("failed")});
  const pid_t run = desk_.program.start({"run", "wardens"});
  for (int i = 0; i < 1000 && !is_there("begun"); ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  kill(run, SIGTERM);
  EXPECT_EQ(Program::wait(run), 11);
  EXPECT_THAT(read_file(file("after")), HasSubstr("KESTRUM_RESULT=stopped\n"));
  EXPECT_FALSE(is_there("failed"));
}

// Where the destination is not there nothing is dumped, and somebody is told.
TEST_F(Around, WithoutADestinationNothingRunsBeforeButAllOfItAfter) {
  define({"--around-before", told("before"), "--around-after-failure", told("failed"), "--around-after",
          told("after")});
  std::filesystem::remove_all(desk_.drive());
  EXPECT_EQ(desk_({"run", "wardens", "--no-wait"}).exit, 5);
  EXPECT_FALSE(is_there("before"));
  EXPECT_THAT(read_file(file("failed")), HasSubstr("KESTRUM_EXIT_CODE=5\n"));
  EXPECT_TRUE(is_there("after"));
}

// Of two runs at once the second is refused before it dumps anything over the first one's feet.
TEST_F(Around, OfTwoRunsAtOnceOneHasItsCommandRun) {
  define({"--around-before", "echo x >> " + file("count") + "; sleep 2", "--around-after",
          "echo x >> " + file("tidied"), "--around-after-failure", told("failed")});
  const pid_t run = desk_.program.start({"run", "wardens"});
  for (int i = 0; i < 1000 && !is_there("count"); ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 6);
  // Nor does it put anything in order.
  EXPECT_FALSE(is_there("tidied"));
  EXPECT_FALSE(is_there("failed"));
  EXPECT_EQ(Program::wait(run), 0);
  EXPECT_EQ(read_file(file("count")) + read_file(file("tidied")), "x\nx\n");
}

TEST_F(Around, TwoDrivesHaveOneDump) {
  std::filesystem::create_directories(file("second"));
  define({"--where-destinations", file("second"), "--where-use", "all connected", "--around-before",
          "echo x >> " + file("before"), "--around-after", "echo x >> " + file("after")});
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(read_file(file("before")) + read_file(file("after")), "x\nx\n");
}

TEST_F(Around, PreviewAndSummaryShowThemAndRunNone) {
  define({"--around-before", told("before"), "--around-after", "true", "--around-time-limit", "5 minutes"});
  EXPECT_THAT(desk_({"job", "show", "wardens"}).out,
              AllOf(HasSubstr("before the run: env"), HasSubstr("the run gives up"),
                    HasSubstr("whatever came of it: true"), HasSubstr("ended after 5 minutes")));
  Ran preview = desk_({"preview", "wardens"});
  EXPECT_EQ(preview.exit, 0);
  EXPECT_THAT(preview.out + preview.err, HasSubstr("a preview runs no commands"));
  EXPECT_FALSE(is_there("before"));
}

class AroundOnChange : private InMemory, public AgentTest {};

// A dump before each run is a change too: it is saved by that run, and is no reason for the next one. Each
// has a name of its own: what was heard of the one before is no help.
TEST_F(AroundOnChange, ItsOwnDumpIsSavedAndNoReasonToRunAgain) {
  ASSERT_EQ(desk_
                .define({"--when-runs", "on change", "--when-least-interval", "1 minute", "--around-before",
                         "now=$(date +%s%N); echo $now > " + desk_.source() + "/dump-$now"})
                .exit,
            0);
  begin_agent();
  clock_.go(60);
  ASSERT_TRUE(ran(1));
  write_file(desk_.source() + "/list.csv", "4,Gannet\n");
  ASSERT_TRUE(ran(2));
  clock_.go(0);
  std::this_thread::sleep_for(std::chrono::milliseconds(300));
  const std::string target = desk_.folder / "restored";
  ASSERT_LE(desk_({"restore", "wardens", "--to", target, "--layout", "path", "--with-owners", "--with-set-id",
                   desk_.source()})
                .exit,
            1);
  EXPECT_EQ(compare_snapshots(take_snapshot(desk_.source()), take_snapshot(target + desk_.source())), "");
  // Where watching hears of it late, one more run follows; never one for each.
  clock_.go(600);
  std::this_thread::sleep_for(std::chrono::seconds(4));
  EXPECT_LE(runs(), 4u) << history().dump();
}

}  // namespace
}  // namespace kestrum::test
