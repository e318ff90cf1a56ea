// pause, continue and stop, from another terminal; and the drive that comes and goes under the agent.
#include <fstream>
#include <random>

#include "program/agent_desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

using testing::ElementsAre;
using testing::HasSubstr;

class Steering : public AgentTest {
 protected:
  // A run by hand that goes on.
  pid_t begin_slow_run() {
    make_slow();
    EXPECT_EQ(desk_.define({"--how-compression", "19"}).exit, 0);
    const pid_t run = desk_.program.start({"run", "wardens"});
    EXPECT_TRUE(comes([&] { return goes(); }));
    return run;
  }
  std::uintmax_t written() {
    std::uintmax_t bytes = 0;
    std::error_code code;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(desk_.drive(), code)) {
      if (entry.is_regular_file(code) && entry.path().extension() == ".kvol") bytes += entry.file_size(code);
    }
    return bytes;
  }
};

TEST_F(Steering, APausedRunHoldsAndItsPointIsExact) {
  const pid_t run = begin_slow_run();
  Ran pause = desk_({"pause", "wardens"});
  EXPECT_EQ(pause.exit, 0);
  EXPECT_THAT(pause.out, HasSubstr("run 1 holds"));
  std::this_thread::sleep_for(std::chrono::milliseconds(700));
  const std::uintmax_t held = written();
  EXPECT_FALSE(comes([&] { return written() != held; }, 1.5));
  EXPECT_TRUE(goes());
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("paused"));
  EXPECT_EQ(desk_({"continue", "wardens"}).exit, 0);
  EXPECT_EQ(Program::wait(run), 0);
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "all"}).exit, 0);
  ASSERT_EQ(
      desk_({"restore", "wardens", desk_.source(), "--at", "latest", "--to", desk_.folder / "back"}).exit, 0);
  EXPECT_EQ(
      std::system(("diff -r '" + desk_.source() + "' '" + (desk_.folder / "back/source") + "'").c_str()), 0);
}

TEST_F(Steering, StopEndsARunCleanlyAlsoAPausedOne) {
  const pid_t run = begin_slow_run();
  desk_({"pause", "wardens"});
  Ran stop = desk_({"stop", "wardens"});
  EXPECT_EQ(stop.exit, 0) << stop.err;
  EXPECT_THAT(stop.out, HasSubstr("Run 1 of wardens: stopped"));
  EXPECT_EQ(Program::wait(run), 11);
  // Once more there is nothing to stop; and the pause is still there, until somebody ends it.
  Ran again = desk_({"stop", "wardens"});
  EXPECT_EQ(again.exit, 2);
  EXPECT_THAT(again.err, HasSubstr("no run of 'wardens' goes on"));
  EXPECT_EQ(desk_({"continue", "wardens"}).exit, 0);
  Ran not_paused = desk_({"continue", "wardens"});
  EXPECT_EQ(not_paused.exit, 2);
  EXPECT_THAT(not_paused.err, HasSubstr("is not paused"));
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0) << "a stop is of one run";
}

TEST_F(Steering, APauseHasAnEnd) {
  const pid_t run = begin_slow_run();
  clock_.go(1);
  EXPECT_THAT(desk_({"pause", "wardens", "--for", "10 minutes"}).out, HasSubstr("until Mon 2027-03-01 08:1"));
  std::this_thread::sleep_for(std::chrono::milliseconds(300));
  EXPECT_TRUE(goes());
  // The clock of the run is the machine's, which is not set here but goes faster.
  clock_.go(600);
  desk_({"pause", "wardens", "--for", "5 minutes"});
  EXPECT_EQ(Program::wait(run), 0);
  EXPECT_EQ(desk_({"pause", "wardens", "--for", "soon"}).exit, 2);
  EXPECT_EQ(desk_({"pause", "nobody"}).exit, 2);
}

TEST_F(Steering, APausedJobIsNotStartedAndMadeUpForAfterwards) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  begin_agent();
  ASSERT_EQ(desk_({"pause", "wardens", "--for", "6 hours"}).exit, 0);
  clock_.run_to("2027-03-01T13:59:00Z", 20000);
  EXPECT_EQ(runs(), 0u);
  EXPECT_THAT(desk_({"schedule"}).out, HasSubstr("is paused until 2027-03-01 14:00"));
  // A person who runs it means it.
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  clock_.go(60);
  EXPECT_TRUE(comes([&] { return due() == std::vector<std::string>{"03-01 12:30 made up for by run 1"}; }));
  // Nothing waits any more, and the next time is kept.
  let_pass_to("2027-03-02T12:29:59Z");
  EXPECT_TRUE(ran(2));
}

TEST_F(Steering, ContinueIsHeardByTheAgentAtOnce) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  begin_agent();
  ASSERT_EQ(desk_({"pause", "wardens"}).exit, 0);
  clock_.run_to("2027-03-01T13:00:00Z", 20000);
  ASSERT_TRUE(comes([&] { return due().size() == 1; }));
  EXPECT_EQ(runs(), 0u);
  ASSERT_EQ(desk_({"continue", "wardens"}).exit, 0);
  EXPECT_TRUE(ran(1));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 1"));
}

TEST_F(Steering, TheFirstCtrlCStopsCleanlyTheSecondAtOnce) {
  const pid_t first = begin_slow_run();
  kill(first, SIGINT);
  EXPECT_EQ(Program::wait(first), 11);
  EXPECT_EQ(history()["runs"][0]["result"], "stopped");
  // A held run looks at what it was told some twenty times a second: mostly the second signal is quicker.
  bool at_once = false;
  for (int attempt = 0; attempt < 10 && !at_once; ++attempt) {
    const pid_t run = desk_.program.start({"run", "wardens"});
    ASSERT_TRUE(comes([&] { return goes(); }));
    desk_({"pause", "wardens"});
    kill(run, SIGINT);
    std::this_thread::sleep_for(std::chrono::milliseconds(2));
    kill(run, SIGINT);
    EXPECT_EQ(Program::wait(run), 11);
    at_once = history()["runs"][0]["result"] == "running";
    desk_({"continue", "wardens"});
  }
  EXPECT_TRUE(at_once);
  EXPECT_THAT(desk_({"history", "wardens"}).out, HasSubstr("cut off"));
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
}

// Paused, let go on and stopped at any moment: earlier points stay whole, and what was let go on is exact.
TEST_F(Steering, AtFiftyRandomMoments) {
  std::string noise(6u << 20, '\0');
  std::mt19937_64 random(50);
  for (char& c : noise) c = static_cast<char>(random());
  for (int i = 0; i < 300; ++i)
    write_file(desk_.source() + "/log-" + std::to_string(i), std::to_string(random()));
  write_file(desk_.source() + "/calls.wav", noise);
  ASSERT_EQ(desk_.define().exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  int continued = 0, stopped = 0, over = 0;
  for (int i = 0; i < 50; ++i) {
    // All of it is new each time.
    for (std::size_t at = random() % 4096; at < noise.size(); at += 4096)
      noise[at] = static_cast<char>(random());
    write_file(desk_.source() + "/calls.wav", noise);
    write_file(desk_.source() + "/log-" + std::to_string(i), std::to_string(random()));
    const pid_t run = desk_.program.start({"run", "wardens"});
    std::this_thread::sleep_for(std::chrono::milliseconds(random() % 400));
    ASSERT_EQ(desk_({"pause", "wardens"}).exit, 0);
    std::this_thread::sleep_for(std::chrono::milliseconds(random() % 100));
    const bool stops = random() % 3 == 0 && desk_({"stop", "wardens"}).exit == 0;
    ASSERT_EQ(desk_({"continue", "wardens"}).exit, 0);
    const int code = Program::wait(run);
    if (stops && code == 11) {
      ++stopped;
      continue;
    }
    ASSERT_EQ(code, 0);
    ++(stops ? over : continued);
    const std::string back = desk_.folder / ("back-" + std::to_string(i));
    ASSERT_EQ(desk_({"restore", "wardens", desk_.source(), "--to", back, "--quiet"}).exit, 0);
    ASSERT_EQ(std::system(("diff -r '" + desk_.source() + "' '" + back + "/source'").c_str()), 0);
    std::filesystem::remove_all(back);
  }
  EXPECT_GT(stopped, 3);
  EXPECT_GT(continued, 20);
  Ran verify = desk_({"verify", "wardens", "--depth", "all"});
  EXPECT_EQ(verify.exit, 0) << verify.out;
}

class AgentDrives : public AgentTest {};

TEST_F(AgentDrives, APluggedInDriveStartsTheWaitingJobAtOnce) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount";
  const std::string image = desk_.folder / "drive.img", label = "agent-" + std::to_string(getpid() % 100000);
  make_ext4_image(image, 48, label);
  const std::string mount = desk_.folder / "mnt";
  ASSERT_EQ(desk_({"job", "define", "wardens", "--what-folders", desk_.source(), "--where-destinations",
                   "label:" + label, "--protect-encryption", "none", "--same-disk", "--when-runs",
                   "daily at 12:30"})
                .exit,
            0);
  begin_agent();
  clock_.run_to("2027-03-02T13:00:00Z", 20000);
  ASSERT_TRUE(comes([&] { return due().size() == 2; }));
  EXPECT_EQ(runs(), 0u);
  Ran status = desk_({"status"});
  EXPECT_EQ(status.exit, 1);
  EXPECT_THAT(status.out, HasSubstr("when the drive comes"));
  EXPECT_THAT(status.out,
              HasSubstr("the drive is not there; a run that was due on 2027-03-01 12:30 waits for it"));
  // Another drive is not the one that is waited for.
  const std::string other = desk_.folder / "other.img";
  make_ext4_image(other, 48, "other-" + std::to_string(getpid() % 100000));
  Mounted wrong(other, desk_.folder / "wrong", "-o loop");
  EXPECT_FALSE(comes([&] { return runs() > 0; }, 1));
  const auto begun = std::chrono::steady_clock::now();
  Mounted right(image, mount, "-o loop");
  ASSERT_TRUE(right.good());
  ASSERT_TRUE(comes([&] { return runs() > 0; }));
  RecordProperty("milliseconds", static_cast<int>(std::chrono::duration_cast<std::chrono::milliseconds>(
                                                      std::chrono::steady_clock::now() - begun)
                                                      .count()));
  ASSERT_TRUE(ran(1));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 1", "03-02 12:30 made up for by run 1"));
  EXPECT_EQ(desk_({"status"}).exit, 0);
}

TEST_F(AgentDrives, SkippedWithoutItsDrive) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30", "--when-if-missed", "skip"}).exit, 0);
  std::filesystem::rename(desk_.drive(), desk_.drive() + "-away");
  begin_agent();
  clock_.run_to("2027-03-01T12:31:00Z", 20000);
  EXPECT_TRUE(comes(
      [&] { return due() == std::vector<std::string>{"03-01 12:30 skipped: its drive was not there"}; }));
}

// To one drive one after the other, to different ones side by side.
TEST_F(AgentDrives, RunsToOneDriveFollowEachOther) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount";
  make_slow();
  Mounted first("none", desk_.folder / "m1", "-t tmpfs -o size=200m"),
      second("none", desk_.folder / "m2", "-t tmpfs -o size=200m");
  const auto define = [&](const std::string& name, const std::string& drive) {
    ASSERT_EQ(desk_({"job", "define", name, "--what-folders", desk_.source(), "--where-destinations", drive,
                     "--same-disk", "--protect-encryption", "none", "--how-compression", "19", "--when-runs",
                     "daily at 12:30"})
                  .exit,
              0);
  };
  define("lists", desk_.folder / "m1");
  define("moths", desk_.folder / "m1");
  define("tracks", desk_.folder / "m2");
  begin_agent();
  let_pass_to("2027-03-01T12:29:59Z");
  std::size_t most = 0;
  bool same = false;
  ASSERT_TRUE(comes(
      [&] {
        std::set<std::string> going;
        const Json all = status()["jobs"];
        for (const Json& one : all) {
          if (one["going"] != nullptr) going.insert(one["job"].get<std::string>());
        }
        most = std::max(most, going.size());
        same = same || (going.contains("lists") && going.contains("moths"));
        return runs("lists") == 1 && runs("moths") == 1 && runs("tracks") == 1 && going.empty();
      },
      120));
  EXPECT_EQ(most, 2u);
  EXPECT_FALSE(same);
}

}  // namespace
}  // namespace kestrum::test
