// Logs of runs: bounded, kept by number and age, and shown.
#include "tell/run_log.hpp"

#include <fcntl.h>
#include <gmock/gmock.h>
#include <sys/stat.h>

#include <ctime>

#include "engine/log_keeping.hpp"
#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class RunLogs : public testing::Test {
 protected:
  // Of so many days ago.
  void put(const std::string& name, int days) {
    write_file(folder_ / name, "x");
    const timespec when{std::time(nullptr) - days * 86400, 0};
    const timespec times[]{when, when};
    ASSERT_EQ(utimensat(AT_FDCWD, (folder_ / name).c_str(), times, 0), 0);
  }
  bool has(const std::string& name) const { return fs::exists(std::string(folder_ / name)); }

  TempFolder folder_;
};

TEST_F(RunLogs, TheNewestStayAndWhatIsNoLogIsLeftAlone) {
  for (int run = 1; run <= 12; ++run) put("run-" + std::to_string(run) + ".log", 12 - run);
  put("run-2.log.steps", 10);
  put("notes.txt", 900);
  keep_logs(folder_ / "run-12.log", {.most = 10, .oldest_seconds = 400 * 86400, .at_least = 3});
  EXPECT_FALSE(has("run-1.log"));
  EXPECT_FALSE(has("run-2.log"));
  EXPECT_FALSE(has("run-2.log.steps"));
  EXPECT_TRUE(has("run-3.log"));
  EXPECT_TRUE(has("notes.txt"));
}

// By a clock of another year all of them are old.
TEST_F(RunLogs, OldOnesGoButNeverAllOfThem) {
  for (int run = 1; run <= 12; ++run) put("run-" + std::to_string(run) + ".log", 500 - run);
  keep_logs(folder_ / "run-12.log", {.most = 100, .oldest_seconds = 400 * 86400, .at_least = 3});
  for (int run = 1; run <= 12; ++run) EXPECT_EQ(has("run-" + std::to_string(run) + ".log"), run > 9) << run;
}

// The library says nothing by itself: that it could not be written is told at the end.
TEST_F(RunLogs, OnAFullDiskNothingIsPrinted) {
  const SystemClock clock;
  RunLog log(clock);
  log.run_begins(folder_ / "run-1.log");
  // What is written to from now on takes nothing.
  const std::string steps = folder_ / "run-1.log.steps";
  for (const auto& entry : fs::directory_iterator("/proc/self/fd")) {
    std::error_code code;
    if (fs::read_symlink(entry.path(), code) != steps) continue;
    const int full = open("/dev/full", O_WRONLY | O_CLOEXEC);
    ASSERT_GE(dup2(full, std::stoi(entry.path().filename())), 0);
    close(full);
  }
  testing::internal::CaptureStderr();
  log.note("kind: full");
  log.problem({"/srv/x", "read", "no such file"});
  EXPECT_EQ(testing::internal::GetCapturedStderr(), "");
}

TEST_F(RunLogs, AMillionProblemsLeaveASmallLogThatSaysHowMany) {
  const SystemClock clock;
  RunLog log(clock);
  const std::string file = folder_ / "run-1.log";
  log.note("before it began");
  log.run_begins(file);
  RunOutcome outcome;
  outcome.entry.job = "wardens";
  outcome.entry.log_file = file;
  for (int n = 0; n < 1000000; ++n) {
    const Problem problem{"/srv/sightings/" + std::to_string(n), "read", "input/output error"};
    log.problem(problem);
    if (outcome.problems.size() < 100000) outcome.problems.push_back(problem);
  }
  for (int n = 0; n < 100000; ++n) log.note("note " + std::to_string(n));
  EXPECT_EQ(log.finish(outcome), std::nullopt);
  const std::string text = read_log(outcome.entry);
  EXPECT_LT(text.size(), 4u << 20);
  EXPECT_THAT(text.substr(0, 2000), HasSubstr("Problems: 1000000\n"));
  EXPECT_THAT(text, AllOf(HasSubstr("and 999,000 more problems"), HasSubstr("before it began"),
                          HasSubstr("more lines left out"), HasSubstr("note 10000\n"),
                          Not(HasSubstr("note 99999\n"))));
}

TEST(History, ShowsTheLogOfARunAndSaysWhereItIsGone) {
  Desk desk;
  write_file(desk.source() + "/counts.csv", "3,Gannet\n");
  ASSERT_EQ(desk.define({}, false).exit, 0);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  Ran shown = desk({"history", "wardens", "--run", "1", "--log"});
  EXPECT_EQ(shown.exit, 0);
  EXPECT_THAT(shown.out,
              AllOf(HasSubstr("Job wardens, run 1: done"), HasSubstr("What happened"), HasSubstr("sealing")));
  EXPECT_EQ(desk({"history", "wardens", "--log"}).exit, 2);
  EXPECT_EQ(desk({"history", "wardens", "--run", "1", "--log", "--json"}).exit, 2);
  // Each run sees to it that there are not too many.
  const fs::path logs = std::string(desk.folder / "home/state/logs/wardens");
  for (int run = 2000; run < 3100; ++run) write_file(logs / ("run-" + std::to_string(run) + ".log"), "x");
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  EXPECT_LE(std::distance(fs::directory_iterator(logs), fs::directory_iterator()), 1001);
  fs::remove_all(desk.folder / "home/state/logs");
  shown = desk({"history", "wardens", "--run", "1", "--log"});
  EXPECT_EQ(shown.exit, 2);
  EXPECT_THAT(shown.err, HasSubstr("is not kept any more"));
}

}  // namespace
}  // namespace kestrum::test
