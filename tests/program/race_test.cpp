// Two commands at the same moment: first starts, a run and a fold, a reader and a pruning. Whoever comes
// second may be told to wait; nobody loses anything, and nothing is called damage. KESTRUM_RACES rounds of
// each.
#include <iostream>

#include "program/desk.hpp"
#include "support/extent.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

int rounds() {
  return static_cast<int>(extent("KESTRUM_RACES", 12));
}

std::string content_of(Desk& desk, const std::string& to, const std::vector<std::string>& more = {}) {
  fs::remove_all(to);
  std::vector<std::string> words{"restore", "wardens",       desk.source(),   "--to",
                                 to,        "--with-owners", "--with-set-id", "--quiet"};
  words.insert(words.end(), more.begin(), more.end());
  Ran ran = desk(words);
  EXPECT_EQ(ran.exit, 0) << ran.err;
  return fs::exists(to + "/source/list") ? read_file(to + "/source/list") : std::string();
}

std::size_t points_of(const Desk& desk) {
  std::size_t count = 0;
  for (const auto& entry : fs::directory_iterator(desk.job_folder()))
    count += entry.is_directory() && fs::exists(entry.path() / "seal.json") ? 1 : 0;
  return count;
}

TEST(Races, TwoFirstStarts) {
  int both = 0;
  for (int round = 0; round < rounds(); ++round) {
    SCOPED_TRACE(round);
    Desk desk;
    write_file(desk.source() + "/list", std::to_string(round));
    desk.define({}, round % 2 == 0);
    pid_t one = desk.program.start({"run", "wardens", "--quiet"});
    pid_t two = desk.program.start({"run", "wardens", "--quiet"});
    int first = Program::wait(one), second = Program::wait(two);
    for (int code : {first, second}) ASSERT_TRUE(code == 0 || code == 6) << code;
    ASSERT_TRUE(first == 0 || second == 0);
    std::size_t good = (first == 0 ? 1u : 0u) + (second == 0 ? 1u : 0u);
    both += good == 2 ? 1 : 0;
    EXPECT_EQ(points_of(desk), good) << "a point that was reported is there";
    EXPECT_EQ(content_of(desk, desk.folder / "out"), std::to_string(round));
    EXPECT_EQ(desk({"verify", "wardens", "--quiet"}).exit, 0);
    EXPECT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0) << "the drive is not shut";
    if (HasFailure()) return;
  }
  std::cout << rounds() << " races of two first starts, in " << both << " of which both made a point\n";
}

class RacingUpkeep : public testing::Test {
 protected:
  void prepare(int points) {
    desk_ = std::make_unique<Desk>();
    desk_->define({"--how-renew", "never", "--keep-points", "100 points", "--check-after-run", "nothing"});
    for (int i = 1; i <= points; ++i) {
      write_file(desk_->source() + "/list", "state " + std::to_string(i));
      write_file(desk_->source() + "/part-" + std::to_string(i), noise(static_cast<unsigned>(i), 200000));
      ASSERT_EQ((*desk_)({"run", "wardens", "--quiet"}).exit, 0);
    }
  }
  std::unique_ptr<Desk> desk_;
};

TEST_F(RacingUpkeep, ARunAndAFold) {
  int folded = 0;
  for (int round = 0; round < rounds(); ++round) {
    SCOPED_TRACE(round);
    prepare(4);
    Desk& desk = *desk_;
    write_file(desk.source() + "/list", "state 5");
    pid_t fold = desk.program.start({"fold", "wardens", "--last", "3", "--beyond-rules", "--yes"});
    if (round % 3 > 0) usleep(static_cast<useconds_t>(round % 7) * 2000);
    pid_t run = desk.program.start({"run", "wardens", "--quiet"});
    int run_code = Program::wait(run), fold_code = Program::wait(fold);
    for (int code : {run_code, fold_code}) ASSERT_TRUE(code == 0 || code == 6) << code;
    ASSERT_TRUE(run_code == 0 || fold_code == 0);
    folded += fold_code == 0 ? 1 : 0;
    EXPECT_EQ(desk({"verify", "wardens", "--quiet"}).exit, 0);
    EXPECT_EQ(content_of(desk, desk.folder / "out", {"--at", "3"}), "state 3");
    EXPECT_EQ(content_of(desk, desk.folder / "out"), run_code == 0 ? "state 5" : "state 4");
    EXPECT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
    if (HasFailure()) return;
  }
  std::cout << rounds() << " races of a run and a fold, of which " << folded << " folds went through\n";
}

TEST_F(RacingUpkeep, AReaderAndAPruning) {
  for (int round = 0; round < rounds(); ++round) {
    SCOPED_TRACE(round);
    prepare(5);
    Desk& desk = *desk_;
    ASSERT_EQ(desk({"job", "edit", "wardens", "--keep-points", "2 points"}).exit, 0);
    pid_t prune = desk.program.start({"prune", "wardens"});
    usleep(static_cast<useconds_t>(round % 11) * 3000);
    std::string to = desk.folder / "meanwhile";
    Ran read;
    switch (round % 3) {
      case 0:
        read = desk(
            {"restore", "wardens", desk.source(), "--to", to, "--with-owners", "--with-set-id", "--quiet"});
        break;
      case 1:
        read = desk({"verify", "wardens", "--quiet"});
        break;
      default:
        read = desk({"browse", "wardens", desk.source()});
        break;
    }
    EXPECT_EQ(Program::wait(prune), 0);
    EXPECT_EQ(read.exit, 0) << read.err << read.out;
    if (round % 3 == 0) {
      EXPECT_EQ(compare_snapshots(take_snapshot(desk.source()), take_snapshot(to + "/source")), "");
    }
    EXPECT_EQ(desk({"verify", "wardens", "--quiet"}).exit, 0) << "nothing was remembered as damage";
    EXPECT_EQ(content_of(desk, desk.folder / "out"), "state 5");
    if (HasFailure()) return;
  }
  std::cout << rounds() << " races of a reader and a pruning\n";
}

}  // namespace
}  // namespace kestrum::test
