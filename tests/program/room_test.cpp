// A drive that fills costs no more history than it has to, and stops no job: on real small drives, day by
// day. Needs root.
#include <fcntl.h>
#include <sys/statvfs.h>

#include <random>

#include "base/file_handle.hpp"
#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Room : private InMemory, public testing::Test {
 protected:
  void SetUp() override {
    if (!may_mount()) GTEST_SKIP() << "mounting a small drive needs root";
    for (unsigned i = 0; i < files; ++i) rewrite(i);
  }
  void drive_of(const std::string& size) {
    drive_.emplace("tmpfs", desk_.drive(), "-t tmpfs -o size=" + size);
    ASSERT_TRUE(drive_->good());
  }
  void define(std::vector<std::string> more) {
    on_day(0);
    Ran ran = desk_.define(std::move(more), false);
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  void on_day(unsigned day) {
    std::time_t when = 1798835400 + std::time_t{86400} * day;  // 2027-01-01 20:30 UTC
    char text[32];
    std::strftime(text, sizeof text, "%FT%TZ", std::gmtime(&when));
    desk_.program.environment["KESTRUM_NOW"] = text;
    desk_.program.environment["TZ"] = "UTC";
  }
  void rewrite(unsigned file) {
    write_file(desk_.source() + "/list-" + std::to_string(file), noise(++seed_, 200000));
  }
  // A day on which so many files are changed, and its run.
  Ran day(unsigned number, unsigned changed) {
    for (unsigned i = 0; i < changed; ++i) rewrite(static_cast<unsigned>(random_() % files));
    on_day(number);
    return desk_({"run", "wardens", "--quiet"});
  }
  std::size_t points() const {
    std::size_t count = 0;
    for (const auto& entry : fs::directory_iterator(desk_.job_folder()))
      count +=
          fs::exists(entry.path() / "set.seal") || entry.path().filename().string().starts_with("0") ? 1 : 0;
    return count;
  }
  // So many bytes of somebody else's fill the drive up to that share.
  void fill_to(unsigned percent) {
    struct statvfs space {};
    ASSERT_EQ(statvfs(desk_.drive().c_str(), &space), 0);
    std::uint64_t total = space.f_blocks * space.f_frsize, free = space.f_bavail * space.f_frsize;
    write_file(desk_.drive() + "/films", noise(7, total * percent / 100 - (total - free)));
  }
  static constexpr unsigned files = 20;
  Desk desk_;
  std::optional<Mounted> drive_;
  std::mt19937 random_{1};
  unsigned seed_ = 0;
};

TEST_F(Room, FilmsOfSomebodyElseCostNoPoint) {
  drive_of("64m");
  define({});
  for (unsigned i = 0; i < 20; ++i) ASSERT_EQ(day(i, 1).exit, 0);
  ASSERT_EQ(points(), 20u);
  fill_to(95);
  for (unsigned i = 20; i < 24; ++i) {
    Ran ran = day(i, 1);
    EXPECT_EQ(ran.exit, 0) << ran.err << ran.out;
    EXPECT_TRUE(holds(ran.out, "the drive is over drive-limit = 90%")) << ran.out;
    EXPECT_EQ(points(), i + 1);
  }
}

TEST_F(Room, RoomThatDoesNotComeFreeCostsOnePointOnly) {
  drive_of("20m");
  define({"--how-kind", "full", "--keep-points", "100 points", "--keep-at-least", "1 point"});
  for (unsigned i = 0; i < 5; ++i) ASSERT_EQ(day(i, 3).exit, 0);
  // A viewer has all of it open: what is removed stays on the drive until that ends.
  std::vector<FileHandle> viewer;
  for (const auto& entry : fs::recursive_directory_iterator(desk_.job_folder())) {
    if (entry.is_regular_file()) viewer.emplace_back(open(entry.path().c_str(), O_RDONLY | O_CLOEXEC));
  }
  Ran ran = day(5, 3);
  EXPECT_EQ(ran.exit, 9) << ran.err << ran.out;
  EXPECT_TRUE(holds(ran.err + ran.out, "has not come free")) << ran.err << ran.out;
  EXPECT_EQ(points(), 4u);
  viewer.clear();
  EXPECT_EQ(day(6, 3).exit, 0) << "the room of the one that was removed is there now";
  EXPECT_EQ(points(), 5u);
}

TEST_F(Room, AFullSetThatDoesNotFitCostsNothing) {
  drive_of("8m");
  define({"--how-renew", "every 5 sets", "--keep-points", "100 points", "--check-after-run", "nothing"});
  for (unsigned i = 0; i < 8; ++i) {
    Ran ran = day(i, 1);
    EXPECT_EQ(ran.exit, 0) << ran.err << ran.out;
    EXPECT_EQ(points(), i + 1);
    if (i == 5) {
      EXPECT_TRUE(holds(ran.out, "incremental")) << ran.out;
      Ran log = desk_({"history", "wardens", "--run", "6"});
      EXPECT_TRUE(holds(log.out, "a full set is due, for which there is no room")) << log.out;
    }
  }
}

TEST_F(Room, AnEndlessJobNeverStops) {
  drive_of("24m");
  define({"--how-renew", "never", "--keep-drive-limit", "90%"});
  for (unsigned i = 0; i < 70; ++i) {
    Ran ran = day(i, 2);
    ASSERT_EQ(ran.exit, 0) << "day " << i << ": " << ran.err << ran.out;
    ASSERT_GT(points(), i > 40 ? 20u : i) << "day " << i;
  }
  EXPECT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, 0);
}

// Without a limit too, up to the end of the drive: what folding needs for a while is not used up.
TEST_F(Room, AnEndlessJobThatFillsItsDriveNeverStops) {
  drive_of("16m");
  define({"--how-renew", "never", "--keep-leave-free", "4 KiB", "--check-after-run", "nothing"});
  for (unsigned i = 0; i < 60; ++i) {
    Ran ran = day(i, 2);
    ASSERT_EQ(ran.exit, 0) << "day " << i << ": " << ran.err << ran.out;
  }
  EXPECT_GT(points(), 10u);
}

TEST_F(Room, AnotherJobsGrowthCostsThisOneNoPoint) {
  drive_of("64m");
  define({"--how-kind", "differential", "--how-renew", "every 100 sets", "--keep-points", "100 points",
          "--keep-drive-limit", "60%"});
  for (unsigned i = 0; i < 12; ++i) ASSERT_EQ(day(i, 1).exit, 0);
  write_file(desk_.folder / "photographs/1", noise(99, 23u << 20));
  ASSERT_EQ(desk_({"job", "define", "photographs", "--what-folders", desk_.folder / "photographs",
                   "--where-destinations", desk_.drive(), "--same-disk", "--protect-encryption", "none",
                   "--keep-points", "100 points"})
                .exit,
            0);
  ASSERT_EQ(desk_({"run", "photographs", "--quiet"}).exit, 0);
  Ran ran = day(12, 1);
  EXPECT_EQ(ran.exit, 0) << ran.err << ran.out;
  EXPECT_TRUE(holds(ran.out, "the drive is over drive-limit = 60%")) << ran.out;
  EXPECT_EQ(points(), 13u);
  // A person may ask for it.
  EXPECT_EQ(desk_({"prune", "wardens"}).exit, 0);
  EXPECT_LT(points(), 13u);
}

TEST_F(Room, AClockThatRanAheadDeletesNothing) {
  drive_of("64m");
  define({"--how-renew", "never", "--keep-thin", "every point for 14 days", "--keep-thin",
          "one a week for 2 months", "--check-after-run", "nothing"});
  for (unsigned i = 0; i < 30; ++i) ASSERT_EQ(day(i, 1).exit, 0);
  std::size_t before = points();
  Ran ahead = day(30 + 730, 1);
  EXPECT_EQ(ahead.exit, 1) << ahead.out;
  EXPECT_TRUE(holds(ahead.err + ahead.out, "If the clock is wrong, put it right")) << ahead.err << ahead.out;
  EXPECT_GE(points(), before);
  // It is put right: the job goes on, and the rules go by the days as they are.
  Ran right = day(31, 1);
  EXPECT_EQ(right.exit, 0) << right.err << right.out;
  EXPECT_GE(points(), before);
  EXPECT_TRUE(holds(desk_({"points", "wardens"}).out, "point 31 was made while the clock was wrong"));
  for (unsigned i = 32; i < 60; ++i) EXPECT_EQ(day(i, 1).exit, 0) << i;
  EXPECT_LE(points(), 14u + 10u) << "the rules hold still for ever";
  EXPECT_GE(points(), 14u + 5u);
}

// The guide's recipe: any day of the last two weeks, on twice the data, whatever changes up to two thirds of
// it.
struct Habit {
  unsigned percent;  // of the data, in two weeks
  unsigned files, size;
};
void PrintTo(const Habit& habit, std::ostream* out) {
  *out << habit.percent << " percent of " << habit.files << " files";
}
class RoomForDays : public Room, public testing::WithParamInterface<Habit> {};

TEST_P(RoomForDays, TwoWeeksOnTwiceTheData) {
  const auto [percent, all, size] = GetParam();
  drive_of("48m");
  fs::remove_all(desk_.source());
  fs::create_directories(desk_.source());
  unsigned seed = 0;
  auto change = [&, bytes = size](unsigned file) {
    write_file(desk_.source() + "/sound-" + std::to_string(file), noise(++seed, bytes));
  };
  for (unsigned i = 0; i < all; ++i) change(i);
  define({"--how-renew", "never", "--keep-thin", "every point for 14 days", "--check-after-run", "nothing"});
  std::mt19937 random(5);
  double due = 0;
  for (unsigned number = 0; number < 70; ++number) {
    for (due += number == 0 ? 0 : all * percent / 1400.0; due >= 1; due -= 1)
      change(static_cast<unsigned>(random() % all));
    on_day(number);
    Ran ran = desk_({"run", "wardens", "--quiet"});
    EXPECT_EQ(ran.exit, 0) << "day " << number << ": " << ran.err << ran.out;
    EXPECT_GE(points(), std::min(number + 1, 15u)) << "day " << number;
  }
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "all"}).exit, 0);
}
// Large files, and many small ones that share frames.
INSTANTIATE_TEST_SUITE_P(Habits, RoomForDays,
                         testing::Values(Habit{22, 48, 500000}, Habit{44, 48, 500000}, Habit{66, 48, 500000},
                                         Habit{44, 600, 40000}, Habit{66, 600, 40000}));

}  // namespace
}  // namespace kestrum::test
