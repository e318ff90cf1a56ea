// Everything a file can be: through full, increment and differential, and back without a difference.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

void set_time(const std::string& path, long long seconds, long nanoseconds) {
  timespec times[2] = {{0, UTIME_OMIT}, {seconds, nanoseconds}};
  ASSERT_EQ(utimensat(AT_FDCWD, path.c_str(), times, AT_SYMLINK_NOFOLLOW), 0) << path;
}

// Names and sorts of files that a person would not think of.
void make_hostile(const std::string& root) {
  for (const std::string& name :
       {std::string("new\nline"), std::string("\xff\xfe\x80"), std::string(255, 'n'), std::string("dot."),
        std::string("..."), std::string("blank "), std::string(" "), std::string("-rf"), std::string("*?[]"),
        std::string("a\\b"), std::string("\x1b[31m"), std::string("CON"), std::string("x:y"),
        std::string("\xc3\xa9"), std::string("e\xcc\x81"), std::string(".kestrum-00.part"),
        std::string("seal.json")}) {
    write_file(root + "/names/" + name, "content of " + name);
  }
  write_file(root + "/empty", "");
  fs::create_directories(root + "/empty folder");
  write_file(root + "/linked", "many names");
  for (int i = 0; i < 5; ++i)
    fs::create_hard_link(root + "/linked", root + "/names/hard-" + std::to_string(i));
  fs::create_symlink("/nowhere/\xff", root + "/dangling");
  fs::create_symlink(std::string(4000, 'l'), root + "/long link");
  set_time(root + "/dangling", -86400LL * 365 * 80, 1);
  ASSERT_EQ(mkfifo((root + "/pipe").c_str(), 0622), 0);
  write_file(root + "/old", "1901");
  set_time(root + "/old", -2147483648LL, 999999999);
  write_file(root + "/future", "2200");
  set_time(root + "/future", 7258118400LL, 5);
  write_file(root + "/setuid", "#!/bin/sh\n");
  chmod((root + "/setuid").c_str(), 06755);
  fs::create_directories(root + "/sticky");
  chmod((root + "/sticky").c_str(), 01777);
  write_file(root + "/closed/inner", "behind a closed door");
  chmod((root + "/closed/inner").c_str(), 0);
  write_file(root + "/tagged", "x");
  std::string large(3000, 'v');
  setxattr((root + "/tagged").c_str(), "user.large", large.data(), large.size(), 0);
  setxattr((root + "/tagged").c_str(), "user.empty", "", 0, 0);
  setxattr((root + "/empty folder").c_str(), "user.folder", "\0\xff", 2, 0);
  int fd = open((root + "/sparse").c_str(), O_CREAT | O_WRONLY, 0644);
  ASSERT_EQ(pwrite(fd, "middle", 6, 40 << 20), 6);
  ASSERT_EQ(ftruncate(fd, 64 << 20), 0);
  close(fd);
  if (geteuid() != 0) return;
  ASSERT_EQ(mknod((root + "/null").c_str(), S_IFCHR | 0666, makedev(1, 3)), 0);
  ASSERT_EQ(mknod((root + "/disk").c_str(), S_IFBLK | 0600, makedev(7, 250)), 0);
  ASSERT_EQ(lchown((root + "/old").c_str(), 12345, 54321), 0);
  ASSERT_EQ(lchown((root + "/dangling").c_str(), 777, 888), 0);
  // An access list with one more reader, in the kernel's own form.
  const unsigned char acl[] = {2, 0,  0,   0,   1,   0,   6,  0, 255, 255, 255, 255, 2,   0,  4,
                               0, 57, 48,  0,   0,   4,   0,  4, 0,   255, 255, 255, 255, 16, 0,
                               6, 0,  255, 255, 255, 255, 32, 0, 0,   0,   255, 255, 255, 255};
  EXPECT_EQ(setxattr((root + "/tagged").c_str(), "system.posix_acl_access", acl, sizeof acl, 0), 0);
}

TEST(Fidelity, EverythingComesBack) {
  Workbench bench("[how]\nvolume-size = \"1 MiB\"\n[protect]\nencryption = \"none\"\n");
  make_hostile(bench.source());
  std::map<Sequence, Snapshot> points;
  points[bench.run_good()] = take_snapshot(bench.source());
  write_file(bench.source() + "/names/dot.", "changed");
  fs::rename(bench.source() + "/names", bench.source() + "/renamed");
  fs::remove(bench.source() + "/renamed/hard-1");
  points[bench.run_good()] = take_snapshot(bench.source());
  fs::remove(bench.source() + "/pipe");
  fs::create_directories(bench.source() + "/pipe");
  points[bench.run_good(Kind::differential)] = take_snapshot(bench.source());
  for (const auto& [point, expected] : points)
    EXPECT_EQ(compare_snapshots(expected, bench.restored(point)), "") << point;
  // Holes stay holes.
  struct stat status {};
  ASSERT_EQ(stat((bench.path("restored-1") + "/source/sparse").c_str(), &status), 0);
  EXPECT_LT(status.st_blocks * 512, 4 << 20);
  EXPECT_TRUE(bench.verified().good());
}

TEST(Fidelity, PathsBeyondPathMaxComeBack) {
  Workbench bench;
  std::string name(200, 'd');
  constexpr int depth = 120;  // 24,000 bytes of path
  auto descend = [&](const std::string& root, bool make) {
    int fd = open(root.c_str(), O_RDONLY | O_DIRECTORY);
    int reached = 0;
    for (; reached < depth; ++reached) {
      if (make && mkdirat(fd, name.c_str(), 0750) != 0) break;
      int next = openat(fd, name.c_str(), O_RDONLY | O_DIRECTORY);
      close(fd);
      fd = next;
      if (fd < 0) return reached;
      if (make) {
        int file = openat(fd, "tally", O_CREAT | O_WRONLY, 0640);
        EXPECT_EQ(write(file, "terns", 5), 5);
        close(file);
      }
      struct stat status {};
      if (fstatat(fd, "tally", &status, 0) != 0 || status.st_size != 5 || (status.st_mode & 0777) != 0640)
        break;
      if (fstat(fd, &status) != 0 || (status.st_mode & 0777) != 0750) break;
    }
    close(fd);
    return reached;
  };
  ASSERT_EQ(descend(bench.source(), true), depth);
  for (int round = 0; round < 2; ++round) bench.run_good();
  RestoreRequest request;
  request.paths = {*TreePath::parse(bench.source())};
  request.target = bench.path("out");
  Subject subject = bench.subject();
  RestoreResult result = restore(subject, {}, request, *bench.observer, {});
  EXPECT_TRUE(result.problems.empty());
  EXPECT_EQ(result.files, static_cast<std::uint64_t>(depth));
  EXPECT_EQ(descend(bench.path("out/source"), false), depth);
  std::string command = "rm -rf '" + bench.path("out") + "' '" + bench.source() + "'";
  EXPECT_EQ(std::system(command.c_str()), 0);
}

TEST(Fidelity, AFolderOfAHundredThousandEntries) {
  Workbench bench("[check]\nafter-run = \"nothing\"\n[protect]\nencryption = \"none\"\n");
  int fd = open(bench.source().c_str(), O_RDONLY | O_DIRECTORY);
  for (int i = 0; i < 100000; ++i) {
    std::string name = "sighting-" + std::to_string(i);
    close(openat(fd, name.c_str(), O_CREAT | O_WRONLY, 0644));
  }
  close(fd);
  RunOutcome outcome = bench.run();
  EXPECT_EQ(outcome.entry.totals.files, 100000u);
  Subject subject = bench.subject();
  OpenPoint point(subject, {});
  EXPECT_EQ(browse(point, *TreePath::parse(bench.source())).children.size(), 100000u);
  EXPECT_EQ(browse(point, *TreePath::parse(bench.source() + "/sighting-77777")).self.size, 0u);
}

// A file that grows, shrinks or vanishes while it is read is tried again, then saved as it was, marked and
// listed.
TEST(Fidelity, FilesThatChangeWhileTheyAreReadAreListed) {
  struct Meddler : Observer {
    explicit Meddler(std::string path) : path_(std::move(path)) {}
    void advanced(std::uint64_t bytes, std::uint64_t) override {
      if (bytes > 0 && size > 0) write_file(path_, std::string(size--, 'm'));
    }
    std::string path_;
    std::size_t size = 0;
  };
  Workbench bench;
  write_file(bench.source() + "/log", std::string(3u << 20, 'l'));
  write_file(bench.source() + "/other", "still");
  Meddler meddler(bench.source() + "/log");
  meddler.size = 2u << 20;
  bench.observer = &meddler;
  RunOutcome outcome = bench.run();
  meddler.size = 0;
  EXPECT_EQ(outcome.entry.result, "done with problems");
  ASSERT_EQ(outcome.problems.size(), 1u);
  EXPECT_NE(outcome.problems[0].reason.find("changed while it was being read"), std::string::npos);
  // The next run reads it again, and it is whole.
  EXPECT_EQ(bench.run().entry.result, "done");
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.source()), bench.restored(2)), "");
}

}  // namespace
}  // namespace kestrum::test
