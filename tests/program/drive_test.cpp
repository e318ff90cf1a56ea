// Where sets go: drives by label and UUID wherever they are mounted, the disk of the files noticed and
// refused, the limits of a file system kept to.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <unistd.h>

#include <cstdlib>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::Not;

std::string noise(std::size_t size) {
  std::string out(size, '\0');
  std::uint64_t state = 88172645463325252u;
  for (char& c : out) {
    state ^= state << 13, state ^= state >> 7, state ^= state << 17;
    c = static_cast<char>(state);
  }
  return out;
}

// A desk with an image in memory, so that what is mounted from it shares no disk with the desk's folders.
class Drives : public testing::Test {
 protected:
  void SetUp() override {
    if (geteuid() != 0) GTEST_SKIP() << "mounting drives needs root";
    fs::create_directories(memory_);
    write_file(desk_.source() + "/2027.csv", "SP999001,Arctic Tern\n");
    tmpfs_ = std::make_unique<Mounted>("tmpfs", memory_, "-t tmpfs -o size=200m");
    ASSERT_TRUE(tmpfs_->good());
    make_ext4_image(image_, 48, label_, uuid_);
  }
  Ran define(const std::string& destination, std::vector<std::string> more = {}) {
    std::vector<std::string> words{"job",
                                   "define",
                                   "job" + std::to_string(++jobs_),
                                   "--what-folders",
                                   desk_.source(),
                                   "--where-destinations",
                                   destination,
                                   "--protect-encryption",
                                   "none"};
    words.insert(words.end(), more.begin(), more.end());
    return desk_(words);
  }
  std::string path(const std::string& name) const { return desk_.folder / name; }

  Desk desk_;
  std::string label_ = "tern-" + std::to_string(getpid());
  std::string uuid_ = "5eab1bd5-0000-4000-8000-" + std::to_string(100000000000 + getpid());
  std::string memory_ = desk_.folder / "memory";
  std::string image_ = desk_.folder / "memory/tern.img";
  std::unique_ptr<Mounted> tmpfs_;
  int jobs_ = 0;
};

TEST_F(Drives, AreFoundByLabelAndUuidWhereverTheyAreMounted) {
  Ran away = define("label:" + label_);
  EXPECT_EQ(away.exit, 0);
  EXPECT_THAT(away.err, HasSubstr("is not mounted on this machine"));
  EXPECT_EQ(desk_({"run", "job1"}).exit, 5);
  {
    Mounted drive(image_, path("here"), "-o loop");
    ASSERT_TRUE(drive.good());
    Ran ran = desk_({"run", "job1"});
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_THAT(ran.out, HasSubstr("in " + path("here") + "/skerry-1/job1/"));
    EXPECT_EQ(define("label:" + label_ + "/sets").exit, 0);
    EXPECT_EQ(desk_({"run", "job2"}).exit, 5);  // no such folder on the drive yet
    fs::create_directories(path("here/sets"));
    EXPECT_EQ(desk_({"run", "job2"}).exit, 0);
  }
  EXPECT_EQ(desk_({"points", "job1"}).exit, 5);
  Mounted drive(image_, path("elsewhere/deep er"), "-o loop");
  ASSERT_TRUE(drive.good());
  Ran again = desk_({"run", "job1"});
  EXPECT_EQ(again.exit, 0) << again.err;
  EXPECT_THAT(again.out, HasSubstr("in " + path("elsewhere/deep er") + "/skerry-1/job1/"));
  EXPECT_THAT(desk_({"points", "job1"}).out, HasSubstr("incremental"));
  EXPECT_EQ(define("uuid:" + uuid_).exit, 0);
  EXPECT_EQ(desk_({"run", "job3"}).exit, 0);
  EXPECT_THAT(desk_({"status"}).out, Not(HasSubstr("(not there)")));
  EXPECT_THAT(desk_({"points", "label:" + label_, "--job", "job1"}).out, HasSubstr("incremental"));
  EXPECT_THAT(desk_({"status", "label:" + label_}).out, HasSubstr("skerry-1: job1"));
  Ran other = define("label:tern-nowhere");
  EXPECT_THAT(other.err, HasSubstr("there are "));
  EXPECT_THAT(other.err, HasSubstr(label_));
  // Two of one name: nothing is guessed.
  fs::copy(image_, path("memory/twin.img"));
  Mounted twin(path("memory/twin.img"), path("twin"), "-o loop");
  ASSERT_TRUE(twin.good());
  Ran two = desk_({"run", "job1"});
  EXPECT_EQ(two.exit, 5);
  EXPECT_THAT(two.err, HasSubstr("two drives are labelled"));
}

TEST_F(Drives, TheDiskOfTheFilesIsNoticedHoweverItIsReached) {
  // The image's file lies in memory: another disk than the desk's.
  Mounted drive(image_, path("drive-1"), "-o loop");
  ASSERT_TRUE(drive.good());
  EXPECT_EQ(define(path("drive-1")).exit, 0);

  const std::string said = "a broken disk would take both";
  auto refused = [&](const std::string& destination, const char* how) {
    Ran ran = define(destination);
    EXPECT_EQ(ran.exit, 2) << destination;
    EXPECT_THAT(ran.err, HasSubstr(said)) << destination;
    EXPECT_THAT(ran.err, HasSubstr(how)) << destination;
    EXPECT_THAT(ran.err, HasSubstr("--same-disk")) << destination;
    EXPECT_FALSE(fs::exists(desk_.folder / ("home/jobs/job" + std::to_string(jobs_) + ".toml")));
  };
  refused(desk_.drive(), "the same file system");
  fs::create_symlink(desk_.drive(), path("link"));
  refused(path("link"), "the same file system");
  Mounted bound(desk_.drive(), path("bound"), "--bind");
  ASSERT_TRUE(bound.good());
  refused(path("bound"), "the same file system");
  // A file system in a file on the disk of the sources: another file system, the same disk.
  make_ext4_image(path("on-disk.img"), 16, "inner");
  Mounted inner(path("on-disk.img"), path("inner"), "-o loop");
  ASSERT_TRUE(inner.good());
  refused(path("inner"), "the same disk");

  // Meant all the same.
  EXPECT_EQ(define(path("inner"), {"--same-disk"}).exit, 0);
  Ran ran = desk_({"run", "job" + std::to_string(jobs_)});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_THAT(ran.err, Not(HasSubstr(said)));
  EXPECT_THAT(desk_({"job", "show", "job" + std::to_string(jobs_)}).out,
              HasSubstr("a broken disk then takes both"));
}

TEST_F(Drives, PartsOfOneDiskAreOneDisk) {
  std::string disk = path("memory/disk.img");
  write_file(disk, "");
  fs::resize_file(disk, 64 << 20);
  LoopDevice loop(disk, "-P");
  ASSERT_EQ(
      std::system(
          ("addpart " + loop.path() + " 1 2048 40000 && addpart " + loop.path() + " 2 45056 40000").c_str()),
      0);
  if (!fs::exists(loop.path() + "p2")) GTEST_SKIP() << "partitions of loop devices are not to be had here";
  for (const char* part : {"p1", "p2"})
    ASSERT_EQ(std::system(("mkfs.ext4 -q -F " + loop.path() + part).c_str()), 0);
  {
    Mounted first(loop.path() + "p1", path("first"));
    Mounted second(loop.path() + "p2", path("second"));
    ASSERT_TRUE(first.good() && second.good());
    write_file(path("first/list.csv"), "x");
    std::vector<std::string> words{"job",          "define",
                                   "parts",        "--what-folders",
                                   path("first"),  "--where-destinations",
                                   path("second"), "--protect-encryption",
                                   "none"};
    Ran ran = desk_(words);
    // Both lie in a file in memory, which is no disk; the loop device is what they share.
    EXPECT_EQ(ran.exit, 2) << ran.out << ran.err;
    EXPECT_THAT(ran.err, HasSubstr("the same disk"));
  }
}

TEST_F(Drives, AFirstRunWhereTheDriveIsNotMountedFillsNoMountPoint) {
  Mounted drive(image_, path("mnt"), "-o loop");
  ASSERT_EQ(define(path("mnt")).exit, 0);
  drive.take_down();
  Ran ran = desk_({"run", "job1"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_THAT(ran.err, HasSubstr("the same file system"));
  EXPECT_TRUE(fs::is_empty(path("mnt")));
  EXPECT_EQ(desk_({"run", "job1", "--same-disk"}).exit, 0);
}

TEST_F(Drives, TheRootOfTheSystemAndAFileAreNoDestinations) {
  EXPECT_EQ(define("/", {"--same-disk"}).exit, 2);
  EXPECT_EQ(define("/tmp/..", {"--same-disk"}).exit, 2);
  Mounted bound("/", path("root"), "--bind");
  Ran ran = define(path("root"), {"--same-disk"});
  EXPECT_EQ(ran.exit, 2) << ran.err;
  EXPECT_THAT(ran.err, HasSubstr("root of the system"));
  write_file(path("file"), "x");
  Ran at_a_file = define(path("file"), {"--same-disk"});
  EXPECT_EQ(at_a_file.exit, 2);
  EXPECT_THAT(at_a_file.err, HasSubstr("is a file, not a folder"));
  fs::create_directories(path("memory/ro"));
  Mounted read_only("tmpfs", path("ro"), "-t tmpfs -o ro");
  EXPECT_THAT(define(path("ro")).err, HasSubstr("read-only"));
  EXPECT_THAT(define(memory_).err, HasSubstr("in memory only"));
}

TEST_F(Drives, DataFilesStayBelowWhatTheFileSystemTakes) {
  if (!may_mount()) GTEST_SKIP() << "mounting the FAT-rules file system needs root and /dev/fuse";
  FatRules stick(path("memory/backing"), path("stick"));
  ASSERT_TRUE(stick.mounted());
  ASSERT_EQ(define(stick.folder(), {"--how-volume-size", "8 GiB"}).exit, 0);
  Ran ran = desk_({"run", "job1"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.err, HasSubstr("data files of up to 2.0 GiB instead of 8.0 GiB"));

  // A limit that nothing tells of: the way out is said, nothing half-done stays.
  FatRules small(path("memory/backing-2"), path("small"), "8388608");
  ASSERT_TRUE(small.mounted());
  write_file(desk_.source() + "/sound.wav", noise(12 << 20));
  ASSERT_EQ(define(small.folder()).exit, 0);
  Ran too_large = desk_({"run", "job2"});
  EXPECT_EQ(too_large.exit, 3) << too_large.err;
  EXPECT_THAT(too_large.err, HasSubstr("[how] volume-size"));
  ASSERT_EQ(define(small.folder(), {"--how-volume-size", "4 MiB"}).exit, 0);
  Ran fits = desk_({"run", "job3"});
  EXPECT_EQ(fits.exit, 0) << fits.err;
  EXPECT_EQ(desk_({"verify", "job3", "--depth", "all"}).exit, 0);
}

// The old drive broke; the new one is taken on when it is told, and not before.
TEST(NewDrive, IsTakenOnWhenItIsTold) {
  Desk desk;
  write_file(desk.source() + "/list", "ring 4711");
  desk.define();
  ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  std::filesystem::remove_all(desk.drive());
  std::filesystem::create_directories(desk.drive());
  Ran ran = desk({"run", "wardens", "--quiet"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_TRUE(holds(ran.err, "--new-drive")) << ran.err;
  EXPECT_TRUE(std::filesystem::is_empty(desk.drive()));
  EXPECT_EQ(desk({"run", "wardens", "--moved", "--quiet"}).exit, 5) << "nothing was moved here";
  EXPECT_EQ(desk({"run", "wardens", "--new-drive", "--quiet"}).exit, 0);
  EXPECT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  EXPECT_EQ(desk({"verify", "wardens", "--quiet"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
