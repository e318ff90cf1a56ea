// Commands of a job file: what they say, what ends them, and what they leave behind.
#include "base/shell_command.hpp"

#include <gmock/gmock.h>

#include <filesystem>
#include <thread>

#include "base/error.hpp"
#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

using namespace std::chrono_literals;
using testing::HasSubstr;

struct Timed {
  CommandResult result;
  std::chrono::steady_clock::duration took;
};

Timed run(const std::string& command, std::chrono::seconds limit = 20s) {
  RunControl control;
  const auto begun = std::chrono::steady_clock::now();
  const CommandResult result = run_shell(command, {{"TERN", "a 'b' \"c\""}}, limit, control);
  return {result, std::chrono::steady_clock::now() - begun};
}

TEST(ShellCommand, BothStreamsTheVariablesAndTheCode) {
  const CommandResult result = run("echo $TERN; echo no such share >&2; read line || exit 3").result;
  EXPECT_EQ(result.exit_code, 3) << "there is nothing to read";
  EXPECT_THAT(result.output, testing::AllOf(HasSubstr("a 'b' \"c\""), HasSubstr("no such share")));
  EXPECT_THAT(result.reason(20s), HasSubstr("it ended with exit code 3 and said: "));
  EXPECT_TRUE(run("true").result.good());
  EXPECT_EQ(run("kill -9 $$").result.exit_code, 128 + 9);
}

// With all that it has started, also what does not want to.
TEST(ShellCommand, OneThatHangsIsEndedWithItsChildren) {
  TempFolder folder;
  const std::string file = folder / "lives";
  const Timed hung =
      run("trap '' TERM; (while true; do touch " + file + "; sleep 0.1; done) & wait; sleep 60", 1s);
  EXPECT_TRUE(hung.result.timed_out);
  EXPECT_FALSE(hung.result.good());
  EXPECT_LT(hung.took, 15s);
  EXPECT_THAT(hung.result.reason(1s), HasSubstr("it took longer than 1"));
  std::filesystem::remove(file);
  std::this_thread::sleep_for(500ms);
  EXPECT_FALSE(std::filesystem::exists(file));
}

// What it leaves running holds its output open, and holds nobody up.
TEST(ShellCommand, ItsOwnEndCounts) {
  const Timed forked = run("echo begun; sleep 15 & exit 0");
  EXPECT_TRUE(forked.result.good());
  EXPECT_LT(forked.took, 5s);
  EXPECT_EQ(forked.result.output, "begun\n");
}

TEST(ShellCommand, OfMuchOutputTheEndIsKept) {
  const CommandResult result = run("yes tern | head -c 20000000; echo the last word").result;
  EXPECT_TRUE(result.good());
  EXPECT_LE(result.output.size(), 4096u);
  EXPECT_TRUE(result.output.ends_with("the last word\n"));
}

TEST(ShellCommand, AStopEndsIt) {
  TempFolder folder;
  RunControl control;
  std::thread stopper([&] {
    std::this_thread::sleep_for(300ms);
    control.stop();
  });
  const auto begun = std::chrono::steady_clock::now();
  EXPECT_THROW(run_shell("sleep 30; touch " + (folder / "after"), {}, 60s, control), Stopped);
  stopper.join();
  EXPECT_LT(std::chrono::steady_clock::now() - begun, 10s);
  EXPECT_FALSE(std::filesystem::exists(std::string(folder / "after")));
}

}  // namespace
}  // namespace kestrum::test
