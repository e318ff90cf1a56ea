// A drive that fills: at every level, the earlier points stay whole, the message says what is, and the next
// run after space was freed succeeds. Real tmpfs and ext4; needs root.
#include <sys/statvfs.h>

#include <algorithm>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

constexpr std::uint64_t step = 64u << 10;

std::uint64_t free_bytes(const std::string& folder) {
  struct statvfs space {};
  EXPECT_EQ(statvfs(folder.c_str(), &space), 0);
  return std::uint64_t{space.f_bavail} * space.f_frsize;
}

// All but so many bytes are taken by a file beside the sets.
void leave_free(const std::string& folder, std::uint64_t wanted) {
  std::filesystem::remove(folder + "/other");
  std::uint64_t free = free_bytes(folder);
  if (free > wanted) write_file(folder + "/other", std::string(free - wanted, 'o'));
}

bool restores(Desk& desk, int point, const Snapshot& expected) {
  std::string to = desk.folder / "out";
  std::filesystem::remove_all(to);
  Ran ran = desk({"restore", "wardens", desk.source(), "--at", std::to_string(point), "--to", to, "--quiet"});
  return ran.exit == 0 && compare_snapshots(expected, take_snapshot(to + "/source")).empty();
}

class FullDrive : private InMemory, public testing::Test {};

TEST_F(FullDrive, EveryLevelOfAFillingTmpfs) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  Mounted tmpfs("tmpfs", desk.drive(), "-t tmpfs -o size=32m");
  ASSERT_TRUE(tmpfs.good());
  for (unsigned i = 0; i < 6; ++i)
    write_file(desk.source() + "/photo-" + std::to_string(i), noise(i, 400000));
  desk.define({"--check-after-run", "nothing", "--keep-points", "100 points"}, false);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  Snapshot first = take_snapshot(desk.source());
  for (unsigned i = 0; i < 6; ++i)
    write_file(desk.source() + "/photo-" + std::to_string(i), noise(50 + i, 400000));
  Snapshot second = take_snapshot(desk.source());
  int full = 0, done = 0;
  for (std::uint64_t level = 0; level * step < (32u << 20); ++level) {
    leave_free(desk.drive(), level * step);
    Ran ran = desk({"run", "wardens", "--quiet", "--moved"});  // points were removed by hand
    ASSERT_TRUE(ran.exit == 0 || ran.exit == 9) << level << ": " << ran.err;
    (ran.exit == 0 ? done : full) += 1;
    if (ran.exit == 9) {
      EXPECT_TRUE(holds(ran.err, "full") || holds(ran.err, "No space")) << level << ": " << ran.err;
      EXPECT_TRUE(holds(ran.err, "\n  ")) << level << " no hint: " << ran.err;
      if (level % 8 == 0) {
        EXPECT_TRUE(restores(desk, 1, first)) << level;
      }
    }
    bool sparse = level % 16 == 0 || (ran.exit == 9 && level % 4 == 0);
    if (!sparse && ran.exit == 0 && done > 4) {
      // Far above what is needed, each level is the same.
    } else {
      std::filesystem::remove(desk.drive() + "/other");
      Ran next = desk({"run", "wardens", "--quiet"});
      ASSERT_EQ(next.exit, 0) << level << ": " << next.err;
      int point = std::stoi(next.out.substr(next.out.find("point ") + 6));
      EXPECT_TRUE(restores(desk, point, second)) << level;
      EXPECT_TRUE(restores(desk, 1, first)) << level;
      EXPECT_EQ(desk({"verify", "wardens"}).exit, 0) << level;
    }
    // Back to one point, so that the next level is as hard.
    for (const auto& entry : std::filesystem::directory_iterator(desk.job_folder())) {
      std::string name = entry.path().filename();
      if (entry.is_directory() && !name.starts_with("000001_")) std::filesystem::remove_all(entry.path());
    }
  }
  EXPECT_GT(full, 30);
  EXPECT_GT(done, 400);
}

TEST_F(FullDrive, OldPointsMakeRoomDownToTheFloor) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  Mounted tmpfs("tmpfs", desk.drive(), "-t tmpfs -o size=16m");
  ASSERT_TRUE(tmpfs.good());
  desk.define({"--how-kind", "full", "--keep-points", "100 points"}, false);
  for (unsigned run = 0; run < 12; ++run) {
    write_file(desk.source() + "/photo", noise(run, 3000000));
    Ran ran = desk({"run", "wardens", "--quiet"});
    ASSERT_EQ(ran.exit, run < 5 ? 0 : 1) << run << ": " << ran.err << ran.out;  // a rule is not kept
    if (run == 8) {
      EXPECT_TRUE(
          holds(desk({"history", "wardens", "--run", "9"}).out, "[keep] points = 100 points is not kept"))
          << desk({"history", "wardens", "--run", "9"}).out;
      Ran status = desk({"status", "wardens"});
      EXPECT_EQ(status.exit, 1);
      EXPECT_TRUE(holds(status.out,
                        "[keep] points = 100 points is not kept: 1 point went to make room, the "
                        "oldest that is left is of "))
          << status.out;
      EXPECT_FALSE(holds(status.out, "1 problem")) << "said twice: " << status.out;
      EXPECT_TRUE(holds(desk({"status", "wardens", "--json"}).out, "\"broken-promise\""));
      EXPECT_TRUE(holds(desk({"history", "wardens", "--json"}).out, "\"rule\": \"points = 100 points\""));
    }
  }
  EXPECT_EQ(desk({"verify", "wardens"}).exit, 0);
  // Now it would not even fit beside the last two.
  write_file(desk.source() + "/photo", noise(99, 11000000));
  Ran ran = desk({"run", "wardens", "--quiet"});
  EXPECT_EQ(ran.exit, 9) << ran.err;
  EXPECT_TRUE(holds(ran.err, "the set needs") && holds(ran.err, "2 points that must stay")) << ran.err;
  EXPECT_TRUE(holds(ran.err, "what would help: use a larger drive")) << ran.err;
  Snapshot now = take_snapshot(desk.source());
  EXPECT_EQ(desk({"verify", "wardens"}).exit, 0);
  ASSERT_EQ(desk({"job", "edit", "wardens", "--keep-at-least", "1 point"}).exit, 0);
  ran = desk({"run", "wardens", "--quiet"});
  ASSERT_EQ(ran.exit, 1) << ran.err;
  EXPECT_TRUE(restores(desk, std::stoi(ran.out.substr(ran.out.find("point ") + 6)), now));
}

TEST_F(FullDrive, TheLimitOfTheDriveIsKept) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  Mounted tmpfs("tmpfs", desk.drive(), "-t tmpfs -o size=32m");
  ASSERT_TRUE(tmpfs.good());
  desk.define({"--how-kind", "full", "--keep-drive-limit", "50%"}, false);
  for (unsigned run = 0; run < 9; ++run) {
    write_file(desk.source() + "/photo", noise(run, 3000000 + 200000 * run));
    Ran ran = desk({"run", "wardens", "--quiet"});
    ASSERT_EQ(ran.exit, 0) << run << ": " << ran.err << ran.out;
    EXPECT_GE(free_bytes(desk.drive()), 16u << 20) << run;
  }
  // What does not fit below the limit is not written, though the drive has room.
  write_file(desk.source() + "/photo", noise(99, 17000000));
  Ran ran = desk({"run", "wardens", "--quiet"});
  EXPECT_EQ(ran.exit, 9) << ran.err;
  EXPECT_TRUE(holds(ran.err, "within the limits of [keep]") && holds(ran.err, "raise the limits")) << ran.err;
  EXPECT_GE(free_bytes(desk.drive()), 16u << 20);
}

TEST_F(FullDrive, TheFirstFullIsNotBegunWhereItCannotFit) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  Mounted tmpfs("tmpfs", desk.drive(), "-t tmpfs -o size=8m");
  ASSERT_TRUE(tmpfs.good());
  write_file(desk.source() + "/photo", noise(1, 12000000));
  desk.define({}, false);
  Ran ran = desk({"run", "wardens", "--quiet"});
  EXPECT_EQ(ran.exit, 9) << ran.err;
  EXPECT_TRUE(holds(ran.err, "the set needs 11.")) << ran.err;
  // What compresses does fit, though the files are larger than the drive.
  write_file(desk.source() + "/photo", std::string(30000000, 'p'));
  EXPECT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
}

TEST_F(FullDrive, AnotherDiskThatIsFullTakesNoPointAway) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  desk.define({"--how-kind", "full", "--keep-points", "100 points"}, false);
  write_file(desk.source() + "/photo", noise(1, 300000));
  for (int run = 0; run < 4; ++run) ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  // The index of a set gathers in the machine's own scratch folder, or where the system keeps temporary
  // files, and neither has room; 140,000 files of their own.
  for (int n = 0; n < 140; ++n) {
    std::filesystem::create_directories(desk.source() + "/" + std::to_string(n));
    for (int k = 0; k < 1000; ++k)
      write_file(desk.source() + "/" + std::to_string(n) + "/" + std::to_string(k),
                 std::to_string(n * 1000 + k));
  }
  Mounted tiny("tmpfs", desk.folder / "home/state/scratch", "-t tmpfs -o size=64k");
  ASSERT_TRUE(tiny.good());
  desk.program.environment["TMPDIR"] = desk.folder / "home/state/scratch";
  Ran ran = desk({"run", "wardens", "--quiet"});
  EXPECT_EQ(ran.exit, 9) << ran.err;
  EXPECT_TRUE(holds(ran.err, "scratch")) << ran.err;
  Ran points = desk({"points", "wardens"});
  EXPECT_TRUE(holds(points.out, "      1  ") && holds(points.out, "      4  ")) << points.out;
}

TEST_F(FullDrive, TheNextDriveTakesOver) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  std::string next_drive = desk.folder / "drive-2";
  Mounted one("tmpfs", desk.drive(), "-t tmpfs -o size=8m"), two("tmpfs", next_drive, "-t tmpfs -o size=32m");
  ASSERT_TRUE(one.good() && two.good());
  desk.define({"--where-destinations", next_drive, "--where-use", "next when full", "--keep-points",
               "9 points", "--keep-at-least", "9 points", "--how-kind", "full"},
              false);
  std::map<int, Snapshot> seen;
  for (unsigned run = 0; run < 5; ++run) {
    write_file(desk.source() + "/photo", noise(run, 3000000));
    Ran ran = desk({"run", "wardens", "--quiet"});
    EXPECT_EQ(ran.exit, 0) << run << ": " << ran.err << ran.out;
  }
  auto sets = [](const std::string& folder) {
    return std::count_if(std::filesystem::directory_iterator(folder + "/skerry-1/wardens"), {},
                         [](const auto& entry) { return entry.is_directory(); });
  };
  EXPECT_EQ(sets(desk.drive()), 2);
  EXPECT_EQ(sets(next_drive), 3);
}

// Points that rules want are given up only once no drive has room without that, and then the oldest.
TEST_F(FullDrive, TheNextDriveComesBeforePromisesAreBroken) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  std::string next_drive = desk.folder / "drive-2";
  Mounted one("tmpfs", desk.drive(), "-t tmpfs -o size=16m"),
      two("tmpfs", next_drive, "-t tmpfs -o size=16m");
  ASSERT_TRUE(one.good() && two.good());
  desk.define({"--where-destinations", next_drive, "--where-use", "next when full", "--keep-points",
               "9 points", "--how-kind", "full"},
              false);
  auto sets = [](const std::string& folder) {
    std::string where = folder + "/skerry-1/wardens";
    if (!std::filesystem::exists(where)) return std::ptrdiff_t{0};
    return std::count_if(std::filesystem::directory_iterator(where), {},
                         [](const auto& entry) { return entry.is_directory(); });
  };
  auto day = [&](unsigned run) {
    write_file(desk.source() + "/photo", noise(run, 3000000));
    return desk({"run", "wardens", "--quiet"});
  };
  for (unsigned run = 0; run < 10; ++run) {
    Ran ran = day(run);
    EXPECT_EQ(ran.exit, 0) << run << ": " << ran.err << ran.out;
  }
  EXPECT_EQ(sets(desk.drive()), 5);
  EXPECT_EQ(sets(next_drive), 5);
  // Both are full: the oldest points lie on the first.
  Ran eleventh = day(10);
  EXPECT_EQ(eleventh.exit, 1) << eleventh.err << eleventh.out;
  EXPECT_FALSE(holds(eleventh.out, "failed")) << eleventh.out;
  EXPECT_TRUE(holds(eleventh.err, "[keep] points = 9 points is not kept: 1 point")) << eleventh.err;
  EXPECT_EQ(desk.set_folder(1), "");
  EXPECT_EQ(sets(desk.drive()), 5);
  EXPECT_EQ(sets(next_drive), 5);
}

TEST_F(FullDrive, WhicheverIsConnectedTakesTheOther) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  std::string other = desk.folder / "drive-2";
  Mounted one("tmpfs", desk.drive(), "-t tmpfs -o size=24m"), two("tmpfs", other, "-t tmpfs -o size=64m");
  ASSERT_TRUE(one.good() && two.good());
  Ran defined = desk.define({"--where-destinations", other, "--how-kind", "full"}, false);
  ASSERT_EQ(defined.exit, 0) << defined.err;
  write_file(desk.source() + "/photo", noise(1, 3000000));
  ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  // Somebody fills the one whose turn it is.
  write_file(desk.source() + "/photo", noise(3, 3000000));
  write_file(desk.drive() + "/films", noise(2, 18500000));
  Ran ran = desk({"run", "wardens", "--quiet"});
  EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
  EXPECT_TRUE(holds(ran.err, "the next destination is tried")) << ran.out << ran.err;
  EXPECT_TRUE(holds(ran.out, "in " + other)) << ran.out;
  std::filesystem::remove(desk.drive() + "/films");
  write_file(desk.source() + "/photo", noise(4, 3000000));
  EXPECT_TRUE(holds(desk({"run", "wardens", "--quiet"}).out, "in " + desk.drive()));
}

// To the last block: there is room for a lock all the same, so that something can be removed.
TEST_F(FullDrive, APruningCanBeginOnADriveWithoutRoom) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  Mounted tmpfs("tmpfs", desk.drive(), "-t tmpfs -o size=8m");
  ASSERT_TRUE(tmpfs.good());
  desk.define({"--how-kind", "full", "--keep-points", "100 points"}, false);
  for (int i = 0; i < 3; ++i) {
    write_file(desk.source() + "/list", noise(static_cast<unsigned>(i), 300000));
    ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  }
  ASSERT_EQ(desk({"job", "edit", "wardens", "--keep-points", "2 points"}).exit, 0);
  std::string command = "dd if=/dev/zero of='" + desk.drive() + "/films' bs=4k 2> /dev/null";
  std::system(command.c_str());
  Ran pruned = desk({"prune", "wardens"});
  EXPECT_EQ(pruned.exit, 0) << pruned.err << pruned.out;
  EXPECT_EQ(desk.set_folder(1), "");
  EXPECT_EQ(desk({"verify", "wardens"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
