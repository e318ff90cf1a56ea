// Checks at times of their own: made by the agent or by a round of one's own timer, once for all that were
// missed, a part each time; what they find is told.
#include "program/agent_desk.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;

class AgentCheck : public AgentTest {
 protected:
  // A job with one point of 6 MiB, that is checked each day.
  void define_checked(std::vector<std::string> more = {}) {
    write_file(desk_.source() + "/calls.wav", noise(6u << 20));
    std::vector<std::string> words{"--check-times", "daily at 14:00",    "--check-after-run",
                                   "nothing",       "--how-volume-size", "1 MiB"};
    words.insert(words.end(), more.begin(), more.end());
    ASSERT_EQ(desk_.define(words).exit, 0);
    ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  }
  Json checks() { return status()["jobs"][0]["checks"]; }
  // The last one that ended is of that day.
  bool checked(const std::string& day) {
    return comes([&] {
      const Json last = checks()["last"];
      return !last.is_null() && last["started"].get<std::string>().starts_with(day);
    });
  }
  void spoil_a_volume() {
    const std::string volume = desk_.set_folder(1) + "/data-002.kvol";
    std::string content = read_file(volume);
    content[content.size() / 2] ^= 1;
    write_file(volume, content);
  }
};

TEST_F(AgentCheck, APartEachTimeUntilAllIsProved) {
  define_checked({"--check-budget", "2 MiB"});
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("It was not checked yet. The next: 2027-03-01 14:00."));
  begin_agent();
  std::uint64_t read = 0;
  bool complete = false;
  for (int day = 1; day < 9 && !complete; ++day) {
    const std::string date = "2027-03-0" + std::to_string(day);
    let_pass_to(date + "T13:59:59Z");
    ASSERT_TRUE(checked(date)) << date;
    const Json last = checks()["last"];
    EXPECT_EQ(last["exit-code"], 0);
    read += last["bytes"].get<std::uint64_t>();
    complete = last["complete"];
    EXPECT_EQ(complete, last["left-bytes"] == 0) << last;
    if (day == 1) {
      EXPECT_FALSE(complete);
    }
  }
  EXPECT_TRUE(complete);
  EXPECT_GT(read, 6u << 20);
  EXPECT_LT(read, 9u << 20) << "something was read twice";
  EXPECT_EQ(runs(), 1u);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("all good; with that everything was read."));
}

TEST_F(AgentCheck, OneMakesUpForAllThatWereMissed) {
  define_checked();
  clock_.set("2027-03-05T09:00:00Z", 0);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("The next is due."));
  begin_agent();
  clock_.run_to("2027-03-05T09:02:50Z", 60);
  EXPECT_TRUE(checks()["last"].is_null()) << "it has been up for less than three minutes";
  clock_.go(60);
  ASSERT_TRUE(checked("2027-03-05"));
  const Json first = checks()["last"];
  clock_.go(200);
  std::this_thread::sleep_for(std::chrono::seconds(2));
  EXPECT_EQ(checks()["last"], first) << "it is made again";
}

TEST_F(AgentCheck, SkipMeansThatNoneIsMadeUpFor) {
  define_checked({"--when-if-missed", "skip"});
  clock_.set("2027-03-05T09:00:00Z", 0);
  begin_agent();
  let_pass_to("2027-03-05T13:59:00Z");
  EXPECT_TRUE(checks()["last"].is_null());
  clock_.go(60);
  ASSERT_TRUE(checked("2027-03-05"));
  EXPECT_GE(checks()["last"]["started"], "2027-03-05T14:00:00Z");
}

TEST_F(AgentCheck, DamageIsTold) {
  define_checked();
  begin_agent();
  spoil_a_volume();
  EXPECT_EQ(desk_({"status"}).exit, 0);
  let_pass_to("2027-03-01T13:59:59Z");
  ASSERT_TRUE(checked("2027-03-01"));
  EXPECT_EQ(checks()["last"]["exit-code"], 4);
  const Ran status = desk_({"status"});
  EXPECT_EQ(status.exit, 1);
  EXPECT_THAT(status.out, HasSubstr("read, damage found."));
  EXPECT_THAT(status.out, HasSubstr("1 damaged point: kestrum verify wardens"));
  // It was made: the next is that of the next day.
  EXPECT_EQ(checks()["next"], "2027-03-02T14:00:00Z");
}

TEST_F(AgentCheck, WaitsForTheDrive) {
  define_checked();
  std::filesystem::rename(desk_.drive(), desk_.folder / "away");
  begin_agent();
  let_pass_to("2027-03-01T14:00:30Z");
  ASSERT_TRUE(comes([&] { return checks()["waits-for"] == "drive"; })) << checks();
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("The next waits for the drive."));
  std::filesystem::rename(desk_.folder / "away", desk_.drive());
  // Nothing tells that a folder came back: it is looked for each hour.
  clock_.run_to("2027-03-01T15:01:00Z", 2000);
  ASSERT_TRUE(checked("2027-03-01"));
  EXPECT_EQ(checks()["last"]["exit-code"], 0);
}

TEST_F(AgentCheck, AKilledOneIsGoneOnWithLater) {
  // Slow enough to be killed.
  define_checked({"--how-read-limit", "1 MiB/s"});
  begin_agent();
  let_pass_to("2027-03-01T13:59:59Z");
  ASSERT_TRUE(comes([&] { return checks()["going"] == true; }));
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("A check goes on."));
  ASSERT_EQ(std::system(("pkill -9 -f 'agent-check.*wardens' -P " + std::to_string(agent_)).c_str()), 0);
  ASSERT_TRUE(comes([&] { return checks()["going"] == false; }));
  EXPECT_TRUE(checks()["last"].is_null());
  clock_.run_to("2027-03-01T14:09:00Z", 2000);
  EXPECT_FALSE(comes([&] { return checks()["going"] == true; }, 1)) << "too soon";
  clock_.run_to("2027-03-01T14:12:00Z", 2000);
  EXPECT_TRUE(checked("2027-03-01"));
}

TEST_F(AgentCheck, EndedItStopsIts) {
  define_checked({"--how-read-limit", "1 MiB/s"});
  begin_agent();
  let_pass_to("2027-03-01T13:59:59Z");
  ASSERT_TRUE(comes([&] { return checks()["going"] == true; }));
  EXPECT_EQ(end_agent(), 0);
  EXPECT_EQ(checks()["going"], false);
  EXPECT_EQ(checks()["last"]["exit-code"], 11) << checks();
  EXPECT_EQ(checks()["waits-for"], "none") << "it is due all the same";
}

TEST_F(AgentCheck, ARunComesFirst) {
  define_checked({"--when-runs", "daily at 14:00", "--how-compression", "19"});
  make_slow();
  begin_agent();
  let_pass_to("2027-03-01T13:59:59Z");
  ASSERT_TRUE(comes([&] { return goes(); }));
  EXPECT_EQ(checks()["going"], false);
  ASSERT_TRUE(ran(2));
  ASSERT_TRUE(checked("2027-03-01"));
  EXPECT_GT(checks()["last"]["bytes"], 64u << 20) << "before the run had ended";
}

TEST_F(AgentCheck, ARoundByOnesOwnTimer) {
  define_checked();
  EXPECT_THAT(desk_({"run", "--due"}).out, HasSubstr("Nothing is due"));
  clock_.set("2027-03-03T15:00:00Z", 0);
  const Ran round = desk_({"run", "--due"});
  EXPECT_EQ(round.exit, 0) << round.err;
  EXPECT_THAT(round.out, HasSubstr("wardens was checked: "));
  EXPECT_THAT(desk_({"run", "--due"}).out, HasSubstr("Nothing is due"));
  clock_.set("2027-03-04T15:00:00Z", 0);
  spoil_a_volume();
  const Ran damaged = desk_({"run", "--due", "--json"});
  EXPECT_EQ(damaged.exit, 4);
  EXPECT_EQ(Json::parse(damaged.out)["checks"][0]["exit-code"], 4);
}

TEST_F(AgentCheck, OneByHandDoesForIt) {
  define_checked();
  clock_.set("2027-03-03T15:00:00Z", 0);
  ASSERT_EQ(desk_({"verify", "wardens", "--depth", "quick"}).exit, 0);
  EXPECT_EQ(checks()["waits-for"], "none") << "nothing was read";
  ASSERT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, 0);
  EXPECT_EQ(checks()["waits-for"], nullptr);
  EXPECT_THAT(desk_({"run", "--due"}).out, HasSubstr("Nothing is due"));
}

TEST_F(AgentCheck, ThatNoneOpensIsTold) {
  define_checked();
  clock_.set("2027-03-03T15:00:00Z", 0);
  write_file(desk_.pass(), "not this one\n");
  // What this machine remembers of the key goes as well.
  for (const auto& entry : std::filesystem::recursive_directory_iterator(desk_.folder / "home")) {
    if (entry.path().extension() == ".key") std::filesystem::remove(entry.path());
  }
  EXPECT_EQ(desk_({"run", "--due", "--quiet"}).exit, 7);
  EXPECT_EQ(checks()["last"]["exit-code"], 7);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("its sets could not be checked: "));
}

TEST_F(AgentCheck, ANewNameKeepsWhatIsKnown) {
  define_checked();
  clock_.set("2027-03-01T15:00:00Z", 0);
  ASSERT_EQ(desk_({"run", "--due"}).exit, 0);
  const Json before = checks();
  ASSERT_EQ(desk_({"job", "rename", "wardens", "rangers"}).exit, 0);
  EXPECT_EQ(checks(), before);
}

TEST_F(AgentCheck, NonsenseIsRefused) {
  define_checked();
  const Ran change = desk_({"job", "edit", "wardens", "--check-times", "on change"});
  EXPECT_EQ(change.exit, 2);
  EXPECT_THAT(change.err, HasSubstr("nothing that changes makes a check due"));
  const Ran full = desk_({"job", "edit", "wardens", "--check-times", "daily at 03:00 full"});
  EXPECT_EQ(full.exit, 2);
  EXPECT_THAT(full.err, HasSubstr("a check writes no set"));
  EXPECT_EQ(desk_({"job", "edit", "wardens", "--check-budget", "a while"}).exit, 2);
  EXPECT_EQ(desk_({"job", "edit", "wardens", "--check-budget", "everything"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
