// Jobs that run on change, through the agent: what happens is saved once it has come to rest, and nothing is
// lost whatever comes in between.
#include <sys/mount.h>

#include "ledger/due_book.hpp"
#include "program/agent_desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;

class OnChange : private InMemory, public AgentTest {
 protected:
  void define(std::vector<std::string> more = {}) {
    std::vector<std::string> words{"--when-runs", "on change"};
    words.insert(words.end(), more.begin(), more.end());
    Ran defined = desk_.define(words, false);
    ASSERT_EQ(defined.exit, 0) << defined.err;
  }
  void put(const std::string& name, const std::string& content) {
    write_file(desk_.source() + "/" + name, content);
  }
  std::string log(int run) {
    return read_file(desk_.folder / "home/state/logs/wardens/run-" + std::to_string(run) + ".log");
  }
  // The agent has made the first point, of everything, and watched meanwhile: the clock stands until it does.
  void begin() {
    begin_agent();
    ASSERT_TRUE(comes([&] {
      Ledger book(ledger());
      const std::vector<AgentEvent> told = DueBook(book).events(1000);
      return std::any_of(told.begin(), told.end(),
                         [](const AgentEvent& event) { return event.what == AgentEvent::watched; });
    }));
    clock_.go(60);
    ASSERT_TRUE(ran(1));
    EXPECT_THAT(log(1), Not(HasSubstr("in which something happened")));
  }
  Snapshot restored() {
    const std::string target = desk_.folder / ("restored-" + std::to_string(++restores_));
    Ran restore = desk_({"restore", "wardens", "--to", target, "--layout", "path", "--with-owners",
                         "--with-set-id", desk_.source()});
    EXPECT_LE(restore.exit, 1) << restore.err;
    return take_snapshot(target + desk_.source());
  }
  std::string lost() { return compare_snapshots(take_snapshot(desk_.source()), restored()); }

  int restores_ = 0;
};

TEST_F(OnChange, WhatHappensIsSavedOnceItHasComeToRest) {
  for (int i = 0; i < 50; ++i) put("d" + std::to_string(i) + "/list.csv", "3,Gannet\n");
  define();
  begin();
  Ran status = desk_({"status"});
  EXPECT_THAT(status.out, HasSubstr("on change,"));
  EXPECT_EQ(Json::parse(desk_({"status", "--json"}).out)["jobs"][0]["on-change"], true);
  // The least interval is over; nothing has happened, so nothing is due.
  clock_.run_to("2027-03-01T09:00:00Z", 2000);
  EXPECT_EQ(runs(), 1u);
  put("d7/list.csv", "4,Gannet\n");
  // It is seen, and waits to come to rest.
  std::this_thread::sleep_for(std::chrono::milliseconds(200));
  clock_.run_to("2027-03-01T09:00:50Z", 60);
  EXPECT_EQ(runs(), 1u);
  clock_.go(10);
  ASSERT_TRUE(ran(2));
  EXPECT_THAT(log(2), HasSubstr("only 1 folder in which something happened is looked at"));
  EXPECT_EQ(history()["runs"][0]["totals"]["changed-files"], 1);
  EXPECT_EQ(lost(), "");
  // The next one not before the least interval is over.
  put("d8/list.csv", "4,Gannet\n");
  std::this_thread::sleep_for(std::chrono::milliseconds(200));
  clock_.run_to("2027-03-01T09:15:30Z", 600);
  EXPECT_EQ(runs(), 2u);
  clock_.go(10);
  ASSERT_TRUE(ran(3));
  EXPECT_EQ(history()["runs"][0]["totals"]["changed-files"], 1);
  const std::vector<std::string> lines = due();
  ASSERT_EQ(lines.size(), 3u);
  EXPECT_THAT(lines[1], HasSubstr("03-01 09:01 done, run 2"));
  EXPECT_THAT(lines[2], HasSubstr("03-01 09:16 done, run 3"));
}

// A clock that is set back by minutes: the run of a moment ago does not count as made after what happens now.
TEST_F(OnChange, MinutesThatComeTwiceHoldNothingUp) {
  define({"--when-least-interval", "1 minute"});
  begin();
  clock_.run_to("2027-03-01T09:40:00Z", 2000);
  clock_.go(60);
  put("list", "3,Gannet\n");
  ASSERT_TRUE(ran(2));
  clock_.set("2027-03-01T09:38:30Z", 60);
  put("again", "4,Gannet\n");
  EXPECT_TRUE(ran(3)) << history().dump();
  EXPECT_LT(clock_.now(), *parse_utc("2027-03-01T09:45:00Z"));
  EXPECT_THAT(log(3), HasSubstr("New 1"));
  EXPECT_THAT(due(), Not(testing::Contains(HasSubstr("run 2")).Times(2)));
  EXPECT_EQ(lost(), "");
}

TEST_F(OnChange, WhatNeverComesToRestIsSavedAllTheSame) {
  define({"--when-settle", "2 minutes", "--when-least-interval", "1 minute"});
  begin();
  clock_.go(120);
  const Instant begun = clock_.now();
  int number = 0;
  // More often than every two minutes, for longer than ten times that.
  ASSERT_TRUE(comes(
      [&] {
        put("log.txt", std::to_string(++number));
        return runs() >= 2;
      },
      30));
  const std::int64_t took = clock_.now().seconds - begun.seconds;
  EXPECT_GE(took, 18 * 60);
  EXPECT_LE(took, 30 * 60);
}

TEST_F(OnChange, AtEachIntervalEverythingIsLookedAtAndCompared) {
  put("a/1", "one");
  define({"--when-runs", "on change, at least every 6 hours"});
  begin();
  clock_.run_to("2027-03-01T13:59:00Z", 20000);
  EXPECT_EQ(runs(), 1u);
  clock_.go(60);
  ASSERT_TRUE(ran(2));
  EXPECT_THAT(log(2), HasSubstr("everything is looked at, as at each interval, and compared"));
  EXPECT_THAT(log(2), HasSubstr("Problems: none"));
  EXPECT_EQ(history()["runs"][0]["exit"], 0);
  // The least interval counts from that run too.
  put("a/1", "two");
  std::this_thread::sleep_for(std::chrono::milliseconds(200));
  clock_.run_to("2027-03-01T14:13:00Z", 600);
  EXPECT_EQ(runs(), 2u);
  clock_.go(60);
  ASSERT_TRUE(ran(3));
  EXPECT_THAT(log(3), HasSubstr("only 1 folder"));
}

TEST_F(OnChange, ANewAgentLooksAtEverything) {
  put("a/1", "one");
  put("b/1", "one");
  define();
  begin();
  ASSERT_EQ(end_agent(), 0);
  put("a/1", "while nobody watched");
  clock_.run_to("2027-03-01T09:30:00Z", 20000);
  begin_agent();
  clock_.go(60);
  ASSERT_TRUE(ran(2));
  EXPECT_THAT(log(2), HasSubstr("everything is looked at: nobody watched since"));
  EXPECT_EQ(history()["runs"][0]["totals"]["changed-files"], 1);
  // A run by hand is not told of anything; the one after it knows that it does not know.
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  put("b/1", "two");
  clock_.go(600);
  ASSERT_TRUE(ran(4));
  EXPECT_THAT(log(4), HasSubstr("nobody watched since"));
  put("b/1", "three");
  ASSERT_TRUE(ran(5));
  EXPECT_THAT(log(5), HasSubstr("only 1 folder"));
  EXPECT_EQ(lost(), "");
}

TEST_F(OnChange, SoMuchAtOnceThatTheKernelLosesCountLosesNothing) {
  // More than the kernel keeps for somebody who does not listen.
  const auto write_all = [&](const std::string& content) {
    for (int i = 0; i < 200; ++i)
      for (int j = 0; j < 100; ++j) put("d" + std::to_string(i) + "/f" + std::to_string(j), content);
  };
  write_all("x");
  define({"--when-least-interval", "1 minute"});
  begin();
  clock_.go(1);
  kill(agent_, SIGSTOP);
  write_all("changed");
  fs::rename(desk_.source() + "/d7", desk_.source() + "/d8/moved");
  kill(agent_, SIGCONT);
  clock_.go(60);
  ASSERT_TRUE(ran(2));
  ASSERT_TRUE(comes([&] { return lost().empty(); })) << lost();
  EXPECT_THAT(log(2), Not(HasSubstr("in which something happened"))) << "it did not lose count";
}

TEST_F(OnChange, ARunThatIsKilledOrStoppedComesAgainWithAllThatHappened) {
  define({"--when-least-interval", "1 minute", "--how-compression", "19"});
  put("a/1", "one");
  begin();
  make_slow();
  ASSERT_TRUE(comes([&] { return goes(); }));
  put("a/1", "while it runs");
  const std::string killing = "pkill -9 -P " + std::to_string(agent_) + " -f agent-run > /dev/null";
  ASSERT_EQ(std::system(killing.c_str()), 0);
  ASSERT_TRUE(comes([&] { return runs() >= 3 && history()["runs"][0]["result"] == "done"; }, 40));
  EXPECT_THAT(log(3), HasSubstr("in which something happened"));
  EXPECT_EQ(lost(), "");
  EXPECT_EQ(restored()["a/1"].content, "while it runs");
}

TEST_F(OnChange, WhileTheDriveIsAwayChangesGatherAndThenCome) {
  define({"--when-least-interval", "1 minute"});
  put("a/1", "one");
  begin();
  fs::rename(desk_.drive(), desk_.folder / "away");
  put("a/2", "two");
  ASSERT_TRUE(comes([&] { return status()["jobs"][0]["waits-for"] == "drive"; }));
  put("b/3", "three");
  fs::rename(desk_.folder / "away", desk_.drive());
  clock_.go(3600);
  ASSERT_TRUE(ran(2));
  EXPECT_THAT(log(2), HasSubstr("in which something happened"));
  EXPECT_EQ(history()["runs"][0]["totals"]["new-files"], 2);
  EXPECT_EQ(lost(), "");
  // One line for all of it.
  EXPECT_EQ(due().size(), 2u);
}

TEST_F(OnChange, AnHourOfRandomChangesLosesNothing) {
  TreeMaker maker(desk_.source(), 15);
  maker.grow(300);
  // Such days are no ordinary ones.
  define({"--when-least-interval", "5 minutes", "--protect-guard", "no"});
  begin();
  clock_.go(240);
  const Instant end{clock_.now().seconds + 3600, 0};
  // A machine that is busy may take longer for so many runs.
  for (int i = 0; clock_.now() < end || (runs() < 4 && i < 1000); ++i) {
    maker.churn(3);
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  EXPECT_GE(runs(), 4u);
  // A run that has all of it may be the one that goes on, or one that comes.
  ASSERT_TRUE(comes([&] { return lost().empty(); }, 60)) << lost();
  clock_.go(0);
  ASSERT_TRUE(ran(runs()));
  end_agent();
  // What a look at everything finds is what watching has found.
  const Json last = history()["runs"][0];
  Ran whole = desk_({"run", "wardens", "--json"});
  ASSERT_EQ(whole.exit, 0) << whole.err;
  const Json now = history()["runs"][0];
  EXPECT_EQ(now["totals"]["new-files"], 0);
  EXPECT_EQ(now["totals"]["changed-files"], 0);
  EXPECT_EQ(now["totals"]["gone-files"], 0);
  EXPECT_EQ(now["totals"]["files"], last["totals"]["files"]);
}

// Who is not root watches each folder for itself.
TEST_F(OnChange, AnOrdinaryUserWatchesFolders) {
  constexpr unsigned nobody = 65534;
  put("a/b/1", "one");
  define({"--when-least-interval", "1 minute"});
  const std::string all = "chown -R " + std::to_string(nobody) + " " + (desk_.folder / "") +
                          " && chmod -R a+rX " + (desk_.folder / "");
  ASSERT_EQ(std::system(all.c_str()), 0);
  desk_.program.user = nobody;
  begin();
  put("a/b/1", "two");
  ASSERT_TRUE(ran(2));
  EXPECT_THAT(log(2), HasSubstr("only 1 folder"));
  fs::create_directories(desk_.source() + "/new/deep");
  put("new/deep/1", "three");
  ASSERT_TRUE(ran(3));
  EXPECT_THAT(log(3), HasSubstr("in which something happened"));
  EXPECT_EQ(history()["runs"][0]["totals"]["new-files"], 1);
}

TEST_F(OnChange, WhatCannotBeWatchedRunsAtItsIntervalAndIsSaid) {
  const std::string backing = desk_.folder / "backing";
  fs::create_directories(backing);
  write_file(backing + "/card.csv", "3,Gannet\n");
  FatRules card(backing, desk_.source());
  if (!card.mounted()) GTEST_SKIP() << "mounting needs root and /dev/fuse";
  Ran defined = desk_.define({"--when-runs", "on change, at least every 2 hours"}, false);
  EXPECT_EQ(defined.exit, 0);
  EXPECT_THAT(defined.err, HasSubstr("the sources cannot be watched, so it would run at its interval only"));
  begin_agent();
  ASSERT_TRUE(comes([&] { return status()["jobs"][0]["unwatched"] != nullptr; }));
  Ran status = desk_({"status"});
  EXPECT_THAT(status.out, HasSubstr("its sources cannot be watched, so it runs at its interval only: "));
  EXPECT_THAT(status.out, Not(HasSubstr("on change,")));
  write_file(card.path("card.csv"), "4,Gannet\n");
  clock_.run_to("2027-03-01T09:59:00Z", 20000);
  EXPECT_EQ(runs(), 0u);
  clock_.go(60);
  ASSERT_TRUE(ran(1));
  end_agent();
}

// A source that is not there yet, and one that is unmounted, are no reason to stop watching.
TEST_F(OnChange, ASourceThatComesLaterIsWatchedFromThen) {
  fs::rename(desk_.source(), desk_.folder / "later");
  fs::create_directories(desk_.folder / "other");
  write_file(desk_.folder / "other/1", "one");
  Ran defined = desk_.define({"--what-folders", desk_.folder / "other", "--when-runs", "on change",
                              "--when-least-interval", "1 minute"},
                             false);
  ASSERT_EQ(defined.exit, 0) << defined.err;
  begin();
  fs::rename(desk_.folder / "later", desk_.source());
  ASSERT_TRUE(comes([&] { return runs() >= 2 && history()["runs"][0]["result"] == "done"; }));
  const std::size_t before = runs();
  put("counts.csv", "5,Gannet\n");
  ASSERT_TRUE(ran(before + 1));
  EXPECT_EQ(restored()["counts.csv"].content, "5,Gannet\n");
}

}  // namespace
}  // namespace kestrum::test
