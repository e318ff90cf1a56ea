// The drive that is there only while it is needed: waited for by hand, mounted for a run, attached by a
// command.
#include <sys/stat.h>

#include <fstream>

#include "program/agent_desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

using testing::ElementsAre;
using testing::HasSubstr;
using testing::Not;

class Attach : public AgentTest {
 protected:
  Attach() : label_("att-" + std::to_string(getpid() % 100000)), image_(desk_.folder / "drive.img") {}
  Ran define_on(const std::string& destination, std::vector<std::string> more = {}) {
    std::vector<std::string> words{"job",
                                   "define",
                                   "wardens",
                                   "--what-folders",
                                   desk_.source(),
                                   "--where-destinations",
                                   destination,
                                   "--same-disk",
                                   "--protect-encryption",
                                   "none"};
    words.insert(words.end(), more.begin(), more.end());
    return desk_(words);
  }
  void write_script(const std::string& name, const std::string& text) {
    write_file(desk_.folder / name, "#!/bin/sh\n" + text + "\n");
    chmod((desk_.folder / name).c_str(), 0700);
  }
  // Due 2027-03-01 12:30; that run has ended.
  void run_by_the_agent_with_that_attach() {
    ASSERT_EQ(
        define_on(desk_.drive(), {"--where-attach", desk_.folder / "attach", "--when-runs", "daily at 12:30"})
            .exit,
        0);
    begin_agent();
    let_pass_to("2027-03-01T12:29:59Z");
    ASSERT_TRUE(ran(1));
  }
  Json last_run() { return history()["runs"][0]; }
  std::string label_, image_;
};

TEST_F(Attach, ARunWaitsForItsDriveAndSaysWhichOtherCame) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount";
  make_ext4_image(image_, 48, label_);
  const std::string other = desk_.folder / "other.img";
  make_ext4_image(other, 48, "oth-" + std::to_string(getpid() % 100000));
  ASSERT_EQ(define_on("label:" + label_).exit, 0);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 5) << "through a pipe nobody is asked";
  EXPECT_EQ(desk_({"run", "wardens", "--wait", "1 minute", "--no-wait"}).exit, 5);
  std::thread plugging([&] {
    std::this_thread::sleep_for(std::chrono::milliseconds(800));
    static_cast<void>(std::system(("mount -o loop '" + other + "' '" + (desk_.folder / "m1") + "'").c_str()));
    std::this_thread::sleep_for(std::chrono::milliseconds(1200));
    static_cast<void>(
        std::system(("mount -o loop '" + image_ + "' '" + (desk_.folder / "m2") + "'").c_str()));
  });
  std::filesystem::create_directories(desk_.folder / "m1");
  std::filesystem::create_directories(desk_.folder / "m2");
  Ran run = desk_.program.run_on_terminal({"run", "wardens"});
  plugging.join();
  EXPECT_EQ(run.exit, 0) << run.out;
  EXPECT_THAT(run.out, HasSubstr("plug in label:" + label_));
  EXPECT_THAT(run.out, HasSubstr("that is not label:" + label_));
  for (const char* mount : {"m1", "m2"})
    EXPECT_EQ(std::system(("umount '" + (desk_.folder / mount) + "'").c_str()), 0);
  EXPECT_EQ(last_run()["result"], "done");
}

TEST_F(Attach, ADriveThatIsOnlyPluggedInIsMountedForTheRunAndForNobodyElse) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount";
  make_ext4_image(image_, 48, label_);
  ASSERT_EQ(
      define_on("label:" + label_, {"--where-mount", "for each run", "--when-runs", "daily at 12:30"}).exit,
      0);
  begin_agent();
  clock_.run_to("2027-03-01T13:00:00Z", 20000);
  ASSERT_TRUE(comes([&] { return due().size() == 1; }));
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("when the drive comes"));
  const LoopDevice plugged(image_);
  ASSERT_FALSE(plugged.path().empty());
  ASSERT_TRUE(ran(1)) << "the kernel's word of the device is enough";
  EXPECT_EQ(last_run()["result"], "done") << last_run();
  EXPECT_THAT(read_file(last_run()["log"]), HasSubstr("is mounted for this run")) << "from before it began";
  EXPECT_THAT(read_file("/proc/mounts"), Not(HasSubstr(plugged.path())));
  EXPECT_THAT(due(), ElementsAre("03-01 12:30 made up for by run 1"));
  EXPECT_THAT(desk_({"points", "wardens"}).err, HasSubstr("it is plugged in as " + plugged.path()));
  // It lies on the drive, and the next run goes on with it.
  let_pass_to("2027-03-02T12:29:59Z");
  ASSERT_TRUE(ran(2));
  EXPECT_EQ(last_run()["kind"], "incremental");
  end_agent();
  Mounted drive(plugged.path(), desk_.folder / "look");
  EXPECT_TRUE(std::filesystem::exists(desk_.folder / "look/skerry-1/wardens"));
  // Mounted by somebody else it is taken as it is, and left so.
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_THAT(read_file("/proc/mounts"), HasSubstr(plugged.path()));
}

// Killed in mid-run the mount is gone with the process.
TEST_F(Attach, AKilledRunLeavesNothingMounted) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount";
  make_ext4_image(image_, 200, label_);
  make_slow();
  // As most machines are: what is mounted below this is seen by everybody, unless somebody sees to it.
  Mounted shared(desk_.folder.path(), desk_.folder.path(), "--bind");
  ASSERT_EQ(std::system(("mount --make-shared '" + desk_.folder.path() + "'").c_str()), 0);
  ASSERT_EQ(define_on("label:" + label_, {"--where-mount", "for each run", "--how-compression", "19"}).exit,
            0);
  const LoopDevice plugged(image_);
  const pid_t run = desk_.program.start({"run", "wardens"});
  // In the view of the thread that does the work, and of those that it has started.
  const auto seen_by_the_run = [&] {
    std::string seen;
    std::error_code code;
    for (const auto& task :
         std::filesystem::directory_iterator("/proc/" + std::to_string(run) + "/task", code)) {
      std::ifstream mounts(task.path() / "mounts");
      seen.append(std::istreambuf_iterator<char>(mounts), {});
    }
    return seen;
  };
  std::string seen;
  ASSERT_TRUE(comes([&] {
    seen = seen_by_the_run();
    return seen.find(plugged.path()) != std::string::npos;
  }));
  EXPECT_THAT(read_file("/proc/mounts"), Not(HasSubstr(plugged.path())));
  EXPECT_THAT(seen, HasSubstr("nosuid,nodev,noexec")) << "sets are data";
  kill(run, SIGKILL);
  Program::wait(run);
  // Nothing holds the device any more.
  EXPECT_TRUE(comes([&] {
    return std::system(("fsck.ext4 -n " + plugged.path() + " >/dev/null 2>&1").c_str()) != 8 * 256;
  }));
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
}

TEST_F(Attach, MountNeedsADriveThatIsNamed) {
  Ran refused = define_on(desk_.drive(), {"--where-mount", "for each run"});
  EXPECT_EQ(refused.exit, 2);
  EXPECT_THAT(refused.err, HasSubstr("does not say which drive"));
}

TEST_F(Attach, CommandsBringTheDestinationAndTakeItAway) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount";
  const std::string share = desk_.folder / "share", back = desk_.folder / "back";
  std::filesystem::create_directories(share);
  std::filesystem::create_directories(back);
  write_script("attach", "mount --bind '" + back + "' '" + share + "'");
  write_script("detach", "umount '" + share + "'");
  ASSERT_EQ(
      define_on(share, {"--where-attach", desk_.folder / "attach", "--where-detach", desk_.folder / "detach"})
          .exit,
      0);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_TRUE(std::filesystem::is_empty(share)) << "nothing is ever written into the mount point";
  EXPECT_FALSE(std::filesystem::is_empty(back));

  // It fails: the destination is not there, and the mount point stays empty.
  write_script("attach", "echo 'no such share' >&2; exit 32");
  write_script("detach", "touch '" + (desk_.folder / "put-in-order") + "'");
  Ran failed = desk_({"run", "wardens"});
  EXPECT_EQ(failed.exit, 5);
  EXPECT_THAT(failed.err, HasSubstr("exit code 32 and said: no such share"));
  EXPECT_TRUE(std::filesystem::exists(desk_.folder / "put-in-order")) << "what it had begun";
  EXPECT_TRUE(std::filesystem::is_empty(share));
  EXPECT_EQ(last_run()["exit"], 5);

  // It says that all is well and has attached nothing: the drive proves who it is.
  write_script("attach", "true");
  write_script("detach", "true");
  Ran empty = desk_({"run", "wardens"});
  EXPECT_NE(empty.exit, 0);
  EXPECT_TRUE(std::filesystem::is_empty(share));

  // It asks: there is nobody to answer.
  write_script("attach", "read answer || { echo 'passphrase wanted' >&2; exit 1; }");
  EXPECT_THAT(desk_({"run", "wardens"}).err, HasSubstr("passphrase wanted"));

  // Taking it away fails: that is told, and the point is good.
  write_script("attach", "mount --bind '" + back + "' '" + share + "'");
  write_script("detach", "umount '" + share + "'; echo 'the lock of the share stayed' >&2; exit 1");
  Ran problem = desk_({"run", "wardens"});
  EXPECT_EQ(problem.exit, 1);
  EXPECT_THAT(problem.err, HasSubstr("the lock of the share stayed"));
  EXPECT_EQ(last_run()["result"], "done with problems");
  EXPECT_EQ(last_run()["problem-count"], 1);
  EXPECT_TRUE(std::filesystem::is_empty(share));
}

// Unattended it is tried again, less and less often, and at once when a drive comes.
TEST_F(Attach, AFailedAttachIsTriedAgain) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount";
  write_script("attach", "test -e '" + (desk_.folder / "reachable") + "'");
  run_by_the_agent_with_that_attach();
  EXPECT_EQ(last_run()["exit"], 5);
  clock_.run_to("2027-03-02T09:00:00Z", 20000);  // between two attempts
  ASSERT_TRUE(ran(5));
  EXPECT_LT(runs(), 12u) << "every ten minutes it would be 123";
  write_file(desk_.folder / "reachable", "");
  Mounted anything("none", desk_.folder / "m", "-t tmpfs -o size=1m");
  ASSERT_TRUE(comes([&] { return last_run()["result"] == "done"; })) << desk_({"history"}).out;
  EXPECT_THAT(due(), ElementsAre(HasSubstr("03-01 12:30 made up for by run")));
}

// What it mounts and unmounts itself is no reason to try it once more.
TEST_F(Attach, AnAttachThatMountsAndFailsIsNotTriedForEver) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount";
  const std::string own = desk_.folder / "own";
  std::filesystem::create_directories(own);
  write_script("attach", "mount -t tmpfs none '" + own + "'; umount '" + own + "'; exit 1");
  run_by_the_agent_with_that_attach();
  EXPECT_FALSE(comes([&] { return runs() > 1; }, 3));
}

// One that hangs is stopped with the run.
TEST_F(Attach, AHangingCommandCanBeStopped) {
  write_script("attach", "sleep 1000");
  ASSERT_EQ(define_on(desk_.drive(), {"--where-attach", desk_.folder / "attach"}).exit, 0);
  const pid_t run = desk_.program.start({"run", "wardens"});
  const std::string sleeping = "pgrep -f '[s]leep 1000' > /dev/null";
  ASSERT_TRUE(comes([&] { return std::system(sleeping.c_str()) == 0; }));
  kill(run, SIGTERM);
  EXPECT_EQ(Program::wait(run), 11);
  EXPECT_NE(std::system(sleeping.c_str()), 0);
  EXPECT_EQ(last_run()["result"], "stopped");
}

}  // namespace
}  // namespace kestrum::test
