// What a run and a restore touch: an increment in which nothing changed opens no file, one file costs little
// reading, a renamed folder costs no content, a change within the same clock tick is seen.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/inotify.h>
#include <sys/stat.h>
#include <unistd.h>

#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Counts opens of regular files below some folders, through the kernel's own notices.
class OpenWatch {
 public:
  explicit OpenWatch(const std::string& root) : fd_(inotify_init1(IN_NONBLOCK | IN_CLOEXEC)) {
    add(root);
    for (const auto& entry : fs::recursive_directory_iterator(root)) {
      if (entry.is_directory()) add(entry.path().string());
    }
  }
  ~OpenWatch() { close(fd_); }
  int opened_files() {
    alignas(inotify_event) char buffer[65536];
    int count = 0;
    ssize_t n = 0;
    while ((n = read(fd_, buffer, sizeof buffer)) > 0) {
      for (char* at = buffer; at < buffer + n;) {
        auto* event = reinterpret_cast<inotify_event*>(at);
        if ((event->mask & IN_OPEN) != 0 && (event->mask & IN_ISDIR) == 0 && event->len > 0) ++count;
        at += sizeof(inotify_event) + event->len;
      }
    }
    return count;
  }

 private:
  void add(const std::string& path) { inotify_add_watch(fd_, path.c_str(), IN_OPEN); }
  int fd_;
};

void fill(const std::string& folder, int folders, int files, std::size_t size) {
  for (int i = 0; i < folders; ++i) {
    for (int j = 0; j < files; ++j) {
      write_file(folder + "/d" + std::to_string(i) + "/f" + std::to_string(j) + ".csv",
                 std::string(size, static_cast<char>('a' + j % 26)) + std::to_string(i * files + j));
    }
  }
}

TEST(Access, ANoChangeIncrementOpensNoFile) {
  Workbench bench;
  fill(bench.source(), 10, 20, 100);
  bench.settle_files();
  bench.run_good();
  OpenWatch watch(bench.source());
  RunOutcome second = bench.run();
  EXPECT_EQ(watch.opened_files(), 0);
  EXPECT_EQ(second.entry.totals.read_bytes, 0u);
  EXPECT_EQ(second.entry.totals.changed_files, 0u);
  RunOutcome differential = bench.run(Kind::differential);
  EXPECT_EQ(watch.opened_files(), 0);
  // The watch itself works: a full opens them all.
  bench.run_good(Kind::full);
  EXPECT_GE(watch.opened_files(), 200);
}

TEST(Access, AChangeWithinTheSameTickOfEqualSizeAndTimeIsCaught) {
  Workbench bench;
  for (int round = 0; round < 10; ++round) {
    std::string path = bench.source() + "/tally-" + std::to_string(round);
    write_file(path, "terns 10");
    struct stat status {};
    stat(path.c_str(), &status);
    bench.run_good();
    write_file(path, "terns 11");
    timespec times[2] = {{0, UTIME_OMIT}, status.st_mtim};
    utimensat(AT_FDCWD, path.c_str(), times, 0);
    Sequence second = bench.run_good();
    EXPECT_EQ(bench.restored(second)["tally-" + std::to_string(round)].content, "terns 11");
  }
}

// The rule itself, where even the time of the last status change is the same: the mark alone makes it read
// again.
TEST(Access, AFreshFileIsReadAgain) {
  Workbench bench;
  write_file(bench.source() + "/a", "new");
  bench.run_good();
  OpenWatch watch(bench.source());
  RunOutcome second = bench.run();
  EXPECT_GE(watch.opened_files(), 1);
  EXPECT_EQ(second.entry.totals.changed_files, 0u) << "read again, found the same";
}

TEST(Access, ARenamedFolderCostsNoContent) {
  Workbench bench("[how]\ncompression = \"fast\"\n[protect]\nencryption = \"none\"\n");
  fill(bench.source() + "/photographs", 8, 8, 200000);
  RunOutcome full = bench.run();
  fs::rename(bench.source() + "/photographs", bench.source() + "/pictures");
  RunOutcome increment = bench.run();
  EXPECT_GT(full.entry.totals.new_bytes, 8u * 8u * 200000u);
  EXPECT_LT(increment.entry.totals.new_bytes, 64u << 10) << "catalog pages only";
  EXPECT_EQ(increment.entry.totals.new_files, 64u);
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.source()), bench.restored(*increment.entry.sequence)), "");
}

TEST(Access, AnInsertionAtTheFrontOfALargeFileCostsLittle) {
  Workbench bench("[how]\ncompression = \"fast\"\n[protect]\nencryption = \"none\"\n");
  std::string content(48u << 20, '\0');
  std::mt19937_64 random(5);
  for (std::size_t i = 0; i + 8 <= content.size(); i += 8) {
    std::uint64_t value = random();
    std::copy_n(reinterpret_cast<const char*>(&value), 8, content.begin() + static_cast<std::ptrdiff_t>(i));
  }
  write_file(bench.source() + "/mail.store", content);
  bench.run_good();
  write_file(bench.source() + "/mail.store", "ten bytes!" + content);
  RunOutcome increment = bench.run();
  EXPECT_LT(increment.entry.totals.stored_bytes, 6u << 20);
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.source()), bench.restored(*increment.entry.sequence)), "");
}

TEST(Access, OneFileOfManyCostsLittleReading) {
  Workbench bench(
      "[how]\ncompression = \"fast\"\n[protect]\nencryption = \"none\"\n[check]\nafter-run = \"nothing\"\n");
  fill(bench.source(), 60, 200, 3000);
  bench.run_good();
  auto counts = std::make_shared<CountingStore::Counts>();
  LookSession subject = bench.subject();
  CountingStore store(open_local_store(bench.drive()), counts);
  KeyRing keys({});
  Observer silent;
  OpenPoint point(store, subject.sets(), keys, {});
  RestoreRequest request;
  request.paths = {*TreePath::parse(bench.source() + "/d31/f77.csv")};
  request.target = bench.path("out");
  RunControl control;
  RestoreResult result = restore(point, request, silent, control, {});
  EXPECT_EQ(result.files, 1u);
  EXPECT_EQ(read_file(bench.path("out") + "/f77.csv"), read_file(bench.source() + "/d31/f77.csv"));
  std::uint64_t read = 0;
  for (const auto& [name, bytes] : counts->bytes) read += bytes;
  // 12,000 files: a few pages of index and catalog, and one frame.
  EXPECT_LT(read, 1u << 20);
}

}  // namespace
}  // namespace kestrum::test
