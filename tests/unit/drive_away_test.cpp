// The drive goes away in the middle of a run, a pruning, a folding: unmounted, mounted read-only, another one
// in its place, its device pulled out with whatever was not flushed. Nothing is written elsewhere, earlier
// points stay whole, the result says what happened.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <unistd.h>

#include "base/exit_codes.hpp"
#include "base/file_handle.hpp"
#include "support/mounts.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

enum class Away { unmounted, read_only, replaced, pulled };
enum class Verb { run, prune, fold };
struct AwayCase {
  const char* name;
  Away away;
  Verb verb;
};

class DriveBack : public testing::Test {
 protected:
  void SetUp() override {
    if (geteuid() != 0) GTEST_SKIP() << "mounting needs root";
    // The same drive a second time, to look at it whatever happens at its place.
    keep_ = bench_.path("keep");
    other_ = bench_.path("other");
    for (const std::string& folder : {keep_, other_}) fs::create_directories(folder);
    mount_keep();
    ASSERT_EQ(mount("tmpfs", other_.c_str(), "tmpfs", 0, "size=64m"), 0);
    put_back();
    // The other drive is somebody's, with an identity of its own.
    write_drive(*open_local_store(other_), {random_id(), "petrel-2", {}, "", false});
    for (int i = 0; i < 12; ++i)
      write_file(bench_.source() + "/f" + std::to_string(i),
                 noise(3000 + 100 * static_cast<std::size_t>(i), i));
    points_[bench_.run_good()] = take_snapshot(bench_.source());
  }
  void TearDown() override {
    if (keep_.empty()) return;
    while (umount2(bench_.drive().c_str(), MNT_DETACH) == 0) {
    }
    take_down_keep();
    umount2(other_.c_str(), MNT_DETACH);
  }

  static std::string noise(std::size_t size, int seed) {
    std::mt19937_64 random(static_cast<std::uint64_t>(seed));
    std::string out(size, '\0');
    for (char& c : out) c = static_cast<char>(random());
    return out;
  }
  // A file system in memory, or one on a device that can be pulled out.
  void mount_keep() {
    if (!on_device_) {
      ASSERT_EQ(mount("tmpfs", keep_.c_str(), "tmpfs", 0, "size=64m"), 0);
      return;
    }
    const std::string image = bench_.path("drive.img");
    if (!fs::exists(image)) make_ext4_image(image, 64, "gannet");
    device_ = std::make_unique<LoopDevice>(image);
    ASSERT_EQ(mount(device_->path().c_str(), keep_.c_str(), "ext4", 0, nullptr), 0);
  }
  void take_down_keep() {
    EXPECT_EQ(umount(keep_.c_str()), 0);
    device_.reset();
  }
  void put_back() {
    while (umount2(bench_.drive().c_str(), MNT_DETACH) == 0) {
    }
    // Put in again, it holds what had reached it.
    if (pulled_) {
      take_down_keep();
      mount_keep();
    }
    pulled_ = false;
    ASSERT_EQ(mount(keep_.c_str(), bench_.drive().c_str(), nullptr, MS_BIND, nullptr), 0);
  }
  void take_away(Away how) {
    const char* drive = bench_.drive_path.c_str();
    if (how == Away::read_only) {
      mount(nullptr, drive, nullptr, MS_BIND | MS_REMOUNT | MS_RDONLY, nullptr);
      return;
    }
    if (how == Away::pulled) {
      pull_out();
      return;
    }
    umount2(drive, MNT_DETACH);
    if (how == Away::replaced) mount(other_.c_str(), drive, nullptr, MS_BIND, nullptr);
  }
  // A loop device in use cannot be detached; its file system is told that it is gone: nothing is written any
  // more, not even its journal, and whatever is asked of it fails.
  void pull_out() {
    constexpr unsigned long shut_down = _IOR('X', 125, std::uint32_t);
    std::uint32_t without_journal = 2;
    const FileHandle top(open(keep_.c_str(), O_RDONLY | O_DIRECTORY));
    ASSERT_EQ(ioctl(top.get(), shut_down, &without_journal), 0);
    pulled_ = true;
  }
  void refill() {
    while (bench_.points().size() < 5) {
      ++changed_;
      write_file(bench_.source() + "/f" + std::to_string(changed_ % 12), noise(4000, 1000 + changed_));
      Sequence point = bench_.run_good();
      points_[point] = take_snapshot(bench_.source());
    }
  }
  // Exit code of the verb; `point`: of a run, when it says that it made one.
  int carry_out(Verb verb, std::optional<Sequence>& point) {
    try {
      if (verb == Verb::run) {
        RunOutcome outcome = bench_.run();
        message_ = outcome.entry.message;
        point = outcome.entry.sequence;
        return outcome.entry.exit_code;
      }
      if (verb == Verb::fold) bench_.fold({}, bench_.points_on(keep_).back());
      if (verb == Verb::prune) prune_job("job", false, bench_.context());
      return exit_done;
    } catch (const Error& error) {
      message_ = error.what();
      return exit_code_of(error.kind());
    }
  }

  struct Bench : Workbench {
    Bench()
        : Workbench(
              "[how]\nvolume-size = \"64 KiB\"\nrenew = \"never\"\n[protect]\nencryption = "
              "\"none\"\n[check]\n"
              "after-run = \"nothing\"\n[keep]\npoints = \"100 points\"\n") {}
    std::vector<Sequence> points_on(const std::string& root) const {
      std::vector<Sequence> out;
      for (const FoundSet& set : subject(root + "/").sets()) {
        if (set.sealed()) out.push_back(set.folder.sequence);
      }
      return out;
    }
    std::string drive_path = drive();
  };
  Bench bench_;
  std::string keep_, other_;
  std::string message_;
  bool on_device_ = false, pulled_ = false;
  std::unique_ptr<LoopDevice> device_;  // for as long as it is plugged in
  std::map<Sequence, Snapshot> points_;
  int changed_ = 0;
};

constexpr int moments = 50;

class DriveAway : public DriveBack, public testing::WithParamInterface<AwayCase> {
 protected:
  void SetUp() override {
    on_device_ = GetParam().away == Away::pulled;
    DriveBack::SetUp();
  }
};

TEST_P(DriveAway, AtFiftyMoments) {
  AwayCase how = GetParam();
  std::uint64_t operations = 0;
  int struck = 0, told = 0;
  const Snapshot others = take_snapshot(other_);
  for (int moment = 0; struck < moments && moment <= 2 * moments; ++moment) {
    refill();
    if (how.verb == Verb::run) write_file(bench_.source() + "/new", noise(90000, moment));
    if (how.verb == Verb::prune) bench_.set_keep("points = \"2 points\"");
    const Snapshot now = take_snapshot(bench_.source());
    auto state = std::make_shared<FaultStore::State>();
    // The first time only counts.
    state->fault.at =
        moment == 0 ? 0 : 1 + static_cast<std::uint64_t>((moment - 1) % moments) * operations / moments;
    bool hit = false;
    state->strike = [&] {
      hit = true;
      take_away(how.away);
    };
    bench_.open_store = [&](const std::string& root) {
      return std::make_unique<FaultStore>(open_local_store(root), state);
    };
    std::optional<Sequence> point;
    int code = carry_out(how.verb, point);
    bench_.open_store = open_local_store;
    bench_.set_keep("points = \"100 points\"");
    if (moment == 0) {
      operations = state->done;
      ASSERT_GT(operations, 10u);
      EXPECT_EQ(code, 0);
    }
    if (hit) {
      ++struck;
      // Below the place where it was mounted, on the system's own disk, there is nothing.
      if (how.away == Away::unmounted) {
        EXPECT_TRUE(fs::is_empty(bench_.drive())) << moment;
      }
      if (how.away == Away::replaced) {
        EXPECT_EQ(compare_snapshots(others, take_snapshot(other_)), "") << moment;
      }
      int right = how.away == Away::replaced ? 8 : 5;
      bool done = code == 0 || code == 1;
      EXPECT_TRUE(done || code == right) << moment << ": " << code << " " << message_;
      told += done ? 0 : 1;
      // A run that says it made its point has made it, on the drive; one that failed has not.
      if (how.verb == Verb::run) {
        EXPECT_EQ(done, point.has_value()) << moment;
      }
    }
    put_back();
    if (point) points_[*point] = now;
    std::vector<Sequence> left = bench_.points();
    ASSERT_FALSE(left.empty());
    if (point) {
      EXPECT_EQ(left.back(), *point) << moment;
    }
    // Pulled when it was sealed already, and before that could be seen: then it is there all the same.
    if (how.verb == Verb::run && !point) points_.try_emplace(left.back(), now);
    EXPECT_TRUE(bench_.verified(Depth::quick).good()) << moment;
    for (Sequence one : {left.front(), left.back()})
      EXPECT_EQ(compare_snapshots(points_[one], bench_.restored(one)), "") << moment << " point " << one;
    // The next run goes on from there, and clears what is left about.
    points_[bench_.run_good()] = take_snapshot(bench_.source());
  }
  EXPECT_EQ(struck, moments);
  EXPECT_GE(told, 15) << "at most moments it matters";
  std::printf("%s: %d moments\n", how.name, struck);
  EXPECT_TRUE(bench_.verified().good());
}

INSTANTIATE_TEST_SUITE_P(Ways, DriveAway,
                         testing::Values(AwayCase{"run_unmounted", Away::unmounted, Verb::run},
                                         AwayCase{"run_read_only", Away::read_only, Verb::run},
                                         AwayCase{"run_replaced", Away::replaced, Verb::run},
                                         AwayCase{"run_pulled", Away::pulled, Verb::run},
                                         AwayCase{"prune_unmounted", Away::unmounted, Verb::prune},
                                         AwayCase{"prune_read_only", Away::read_only, Verb::prune},
                                         AwayCase{"prune_replaced", Away::replaced, Verb::prune},
                                         AwayCase{"prune_pulled", Away::pulled, Verb::prune},
                                         AwayCase{"fold_unmounted", Away::unmounted, Verb::fold},
                                         AwayCase{"fold_read_only", Away::read_only, Verb::fold},
                                         AwayCase{"fold_replaced", Away::replaced, Verb::fold},
                                         AwayCase{"fold_pulled", Away::pulled, Verb::fold}),
                         [](const auto& way) { return way.param.name; });

// Pulled out and put in again: the same drive, found under another device, and what was open is of no use.
TEST_F(DriveBack, IsToldAsUnmountedNotAsAnotherDrive) {
  std::optional<DriveIdentity> ours = read_drive(*open_local_store(keep_));
  ASSERT_TRUE(ours);
  write_drive(*open_local_store(other_), *ours);
  write_file(bench_.source() + "/new", noise(90000, 7));
  auto state = std::make_shared<FaultStore::State>();
  state->fault.at = 20;
  state->strike = [&] { take_away(Away::replaced); };
  bench_.open_store = [&](const std::string& root) {
    return std::make_unique<FaultStore>(open_local_store(root), state);
  };
  RunOutcome outcome = bench_.run();
  bench_.open_store = open_local_store;
  EXPECT_EQ(outcome.entry.exit_code, 5) << outcome.entry.message;
  EXPECT_NE(outcome.entry.message.find("unmounted meanwhile"), std::string::npos) << outcome.entry.message;
  EXPECT_FALSE(outcome.entry.sequence);
}

// A drive whose content was copied elsewhere is not that drive.
TEST(DriveIdentity, ACopyIsNotTheDrive) {
  if (geteuid() != 0) GTEST_SKIP() << "mounting needs root";
  Workbench bench;
  write_file(bench.source() + "/a", "x");
  std::string first = bench.path("first"), second = bench.path("second");
  for (const std::string& folder : {first, second}) {
    fs::create_directories(folder);
    ASSERT_EQ(mount("tmpfs", folder.c_str(), "tmpfs", 0, "size=16m"), 0);
  }
  bool told = !open_place(DestinationAddress::parse(first), open_local_store).facts.uuid.empty();
  ASSERT_EQ(mount(first.c_str(), bench.drive().c_str(), nullptr, MS_BIND, nullptr), 0);
  bench.run_good();
  fs::copy(first, second, fs::copy_options::recursive);
  ASSERT_EQ(umount2(bench.drive().c_str(), MNT_DETACH), 0);
  ASSERT_EQ(mount(second.c_str(), bench.drive().c_str(), nullptr, MS_BIND, nullptr), 0);
  RunOutcome outcome = bench.run();
  if (told) {
    EXPECT_EQ(outcome.entry.exit_code, 8) << outcome.entry.message;
    EXPECT_NE(outcome.error->hint().find("--moved"), std::string::npos);
    RunContext context = bench.context();
    context.meant.moved = true;
    outcome = run_job("job", {}, context).back();
    EXPECT_EQ(outcome.entry.exit_code, 0) << outcome.entry.message;
    EXPECT_EQ(outcome.entry.sequence, 2u);
    // From now on it is a drive of its own.
    EXPECT_EQ(bench.run_good(), 3u);
  }
  for (const std::string& folder : {bench.drive(), first, second}) umount2(folder.c_str(), MNT_DETACH);
  EXPECT_TRUE(told || outcome.entry.exit_code == 0);
}

}  // namespace
}  // namespace kestrum::test
