// [how] effort: what a run takes of the machine, and that the next one is none the worse for it.
#include <gmock/gmock.h>
#include <linux/ioprio.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <fstream>
#include <sstream>
#include <thread>

#include "program/desk.hpp"
#include "support/noise.hpp"

namespace kestrum::test {
namespace {

class Effort : public testing::Test {
 protected:
  Effort() { write_file(desk_.source() + "/counts.csv", "3,Gannet\n"); }
  // Its command says what it was given; commands are started by the thread that does the work.
  void define(const std::string& name, const std::string& effort) {
    Ran defined =
        desk_({"job", "define", name, "--what-folders", desk_.source(), "--where-destinations", desk_.drive(),
               "--same-disk", "--protect-encryption", "none", "--how-effort", effort, "--around-before",
               "echo $(nice) $(ionice) >> " + std::string(desk_.folder / "said")});
    ASSERT_EQ(defined.exit, 0) << defined.err;
  }
  std::string said() const { return read_file(desk_.folder / "said"); }

  Desk desk_;
};

TEST_F(Effort, EachRunHasItsOwnWhateverTheOneBeforeHad) {
  define("a-low", "low");
  define("b-normal", "normal");
  define("c-all", "all");
  ASSERT_EQ(desk_({"run", "--all"}).exit, 0);
  EXPECT_THAT(said(), testing::StartsWith("19 idle\n10 best-effort: prio 7\n0 "));
}

// Whoever starts it with less keeps it at that.
TEST_F(Effort, NothingIsTakenThatTheProcessWasNotGiven) {
  define("wardens", "normal");
  // What is started here has what this thread has.
  const long before = syscall(SYS_ioprio_get, IOPRIO_WHO_PROCESS, 0);
  ASSERT_EQ(setpriority(PRIO_PROCESS, 0, 15), 0);
  ASSERT_EQ(syscall(SYS_ioprio_set, IOPRIO_WHO_PROCESS, 0, IOPRIO_PRIO_VALUE(IOPRIO_CLASS_IDLE, 0)), 0);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  setpriority(PRIO_PROCESS, 0, 0);
  syscall(SYS_ioprio_set, IOPRIO_WHO_PROCESS, 0, before);
  EXPECT_EQ(said(), "15 idle\n");
}

// Not only the first thread: all that compress, write and watch.
TEST_F(Effort, AllThreadsOfALowRunAreLow) {
  write_file(desk_.source() + "/calls.wav", noise(48u << 20));
  define("wardens", "low");
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--how-compression", "19"}).exit, 0);
  const pid_t run = desk_.program.start({"run", "wardens"});
  const std::string tasks = "/proc/" + std::to_string(run) + "/task";
  std::size_t most = 0, high = 0;
  for (int look = 0; look < 300 && most < 4; ++look) {
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
    std::size_t threads = 0, ordinary = 0;
    std::error_code code;
    for (const auto& task : std::filesystem::directory_iterator(tasks, code)) {
      std::ifstream file(task.path() / "stat");
      std::string line;
      if (!std::getline(file, line)) continue;
      // Behind the name, which may hold anything, nice is the seventeenth.
      std::istringstream fields(line.substr(line.rfind(')') + 1));
      std::string field;
      for (int i = 0; i < 17; ++i) fields >> field;
      ++threads;
      if (field != "19") ++ordinary;
    }
    if (threads > most) {
      most = threads;
      high = ordinary;
    }
  }
  // The one that waits for it is as it was.
  EXPECT_GE(most, 4u);
  EXPECT_EQ(high, 1u);
  // And it is stopped like any other.
  kill(run, SIGTERM);
  EXPECT_EQ(Program::wait(run), 11);
}

}  // namespace
}  // namespace kestrum::test
