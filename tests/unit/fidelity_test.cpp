// Everything a file can be: through full, increment and differential, and back without a difference.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "support/hostile_tree.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

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
  LookSession subject = bench.subject();
  RestoreResult result = restore(subject, {}, request, *bench.observer, bench.control, {});
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
  LookSession subject = bench.subject();
  OpenPoint point(subject, {});
  EXPECT_EQ(browse(point, *TreePath::parse(bench.source())).children.size(), 100000u);
  EXPECT_EQ(browse(point, *TreePath::parse(bench.source() + "/sighting-77777")).self.size, 0u);
}

// A file that grows, shrinks or vanishes while it is read is tried again, then saved as it was, marked and
// listed.
TEST(Fidelity, AFileWithManyNamesIsReadOnce) {
  Workbench bench;
  std::string content(1 << 20, 'r');
  write_file(bench.source() + "/a/ring", content);
  for (int i = 0; i < 9; ++i)
    fs::create_hard_link(bench.source() + "/a/ring", bench.source() + "/ring-" + std::to_string(i));
  RunOutcome outcome = bench.run();
  ASSERT_TRUE(outcome.entry.sequence) << outcome.entry.message;
  SetTotals totals = bench.subject().sets()[0].facts().totals;
  EXPECT_EQ(totals.read_bytes, content.size());
  EXPECT_EQ(totals.bytes, 10 * content.size());
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.source()), bench.restored(1)), "");
}

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
  EXPECT_EQ(outcome.entry.result, RunResult::done_with_problems);
  ASSERT_EQ(outcome.problems.size(), 1u);
  EXPECT_NE(outcome.problems[0].reason.find("changed while it was being read"), std::string::npos);
  // The next run reads it again, and it is whole.
  EXPECT_EQ(bench.run().entry.result, RunResult::done);
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.source()), bench.restored(2)), "");
}

}  // namespace
}  // namespace kestrum::test
