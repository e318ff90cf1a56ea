// Restoring to where not everything can be: FAT's rules, tmpfs, an ordinary user. The data is there, and what
// could not be kept is listed, no more and no less.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <grp.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <thread>

#include "support/hostile_tree.hpp"
#include "support/mounts.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::UnorderedElementsAre;
using testing::UnorderedElementsAreArray;

// "operation: path below the source: reason", with the workbench's folders taken out.
std::vector<std::string> lines(const std::vector<Problem>& problems, const std::string& source,
                               const std::string& target) {
  std::vector<std::string> out;
  for (const Problem& problem : problems) {
    std::string line = problem.operation + ": " + problem.path + ": " + problem.reason;
    for (const std::string& cut : {source + "/", source, target + "/"}) {
      for (std::size_t at = line.find(cut); at != std::string::npos; at = line.find(cut))
        line.erase(at, cut.size());
    }
    out.push_back(line);
  }
  return out;
}

// Contents of all files below a folder, sorted.
std::vector<std::string> contents(const std::string& folder) {
  std::vector<std::string> out;
  for (const fs::directory_entry& entry : fs::recursive_directory_iterator(folder)) {
    if (entry.symlink_status().type() == fs::file_type::regular) out.push_back(read_file(entry.path()));
  }
  std::sort(out.begin(), out.end());
  return out;
}

TEST(Targets, OntoFatRules) {
  if (!may_mount()) GTEST_SKIP() << "mounting the FAT-rules file system needs root and /dev/fuse";
  Workbench bench;
  make_hostile(bench.source());
  fs::remove(bench.source() + "/sparse");  // 64 MiB of zeros there
  bench.run_good();
  FatRules stick(bench.path("stick-backing"), bench.path("stick"));
  ASSERT_TRUE(stick.mounted());
  RestoreResult result = bench.restore_to(stick.path("back"));
  std::string no_name = "the file system there cannot hold its name; it is in ";
  std::string cut = "the file system there cuts the end of its name off: it is in ";
  EXPECT_THAT(
      lines(result.problems, bench.source(), stick.path("back/source")),
      UnorderedElementsAre(
          "restore: names/a\\b: " + no_name + "names/a_b", "restore: names/*?[]: " + no_name + "names/__[]",
          "restore: names/new\nline: " + no_name + "names/new_line",
          "restore: names/x:y: " + no_name + "names/x_y",
          "restore: names/\x1b[31m: " + no_name + "names/_[31m",
          "restore: names/\xff\xfe\x80: " + no_name + "names/___", "restore: names/ : " + no_name + "names/_",
          "restore: names/...: " + no_name + "names/.._", "restore: names/dot.: " + cut + "names/dot",
          "restore: names/blank : " + cut + "names/blank",
          "restore: dangling: cannot create the link: Operation not permitted",
          "restore: long link: cannot create the link: Operation not permitted",
          "restore: pipe: cannot create the FIFO: Operation not permitted",
          "restore: disk: cannot create the device node: Operation not permitted",
          "restore: null: cannot create the device node: Operation not permitted",
          "set the attribute system.posix_acl_access of: tagged: Operation not supported",
          "set the attribute user.empty of: tagged: Operation not supported",
          "set the attribute user.folder of: empty folder: Operation not supported",
          "set the attribute user.large of: tagged: Operation not supported",
          "set the owner of: old: Operation not permitted",
          testing::StartsWith(
              "set the mode of: closed/inner: the file system there does not keep it as it was; "
              "the same for "),
          testing::StartsWith(
              "set the time of: closed/inner: the file system there keeps it only roughly; the "
              "same for "),
          testing::StartsWith("set the time of: future: the file system there cannot hold so far a time"),
          testing::StartsWith(
              "link to its other name: names/hard-0: Operation not permitted; it is a file of its "
              "own; the same for 4 more")))
      << testing::PrintToString(lines(result.problems, bench.source(), stick.path("back/source")));
  EXPECT_EQ(contents(stick.path("back/source")), contents(bench.source()));
}

TEST(Targets, NamesThatDifferOnlyInCaseDoNotGoOverEachOther) {
  if (!may_mount()) GTEST_SKIP() << "mounting the FAT-rules file system needs root and /dev/fuse";
  Workbench bench;
  for (const char* name :
       {"Terns.csv", "terns.csv", "TERNS.CSV", "Isle/a", "isle/b", "isle/A", "isle./c", "isle:/d"})
    write_file(bench.source() + "/" + name, std::string("content of ") + name);
  bench.run_good();
  for (Clash clash : {Clash::keep_both, Clash::replace, Clash::keep_existing, Clash::keep_newer}) {
    FatRules stick(bench.path("stick-backing"), bench.path("stick"));
    ASSERT_TRUE(stick.mounted());
    std::string back = stick.path("back-" + std::string(clash_name(clash)));
    RestoreResult result = bench.restore_to(back, 0, clash);
    EXPECT_EQ(contents(back), contents(bench.source())) << clash_name(clash);
    // Again over what is there: replaced or kept, never one over the other.
    if (clash == Clash::replace) {
      bench.restore_to(back, 0, clash);
      std::vector<std::string> found = contents(back);
      for (const std::string& content : contents(bench.source()))
        EXPECT_THAT(found, testing::Contains(content));
    }
    std::vector<std::string> told = lines(result.problems, bench.source(), back + "/source");
    EXPECT_THAT(told,
                testing::Contains("restore: isle: the file system there takes its name for that of another "
                                  "folder: both are together"));
    EXPECT_THAT(told, testing::Contains(
                          "restore: isle:: the file system there cannot hold its name; it is in isle_"));
  }
}

TEST(Targets, AFileTooLargeForTheTargetComesInParts) {
  if (!may_mount()) GTEST_SKIP() << "mounting the FAT-rules file system needs root and /dev/fuse";
  Workbench bench;
  std::string large;
  for (long i = 0; large.size() < (11u << 20) + 17; ++i) large += "night " + std::to_string(i * 7919) + "\n";
  write_file(bench.source() + "/nights.db", large);
  int fd = open((bench.source() + "/hole").c_str(), O_CREAT | O_WRONLY, 0644);
  ASSERT_EQ(pwrite(fd, "end", 3, 7 << 20), 3);
  close(fd);
  bench.run_good();
  FatRules stick(bench.path("stick-backing"), bench.path("stick"), "4194303");
  ASSERT_TRUE(stick.mounted());
  RestoreResult result = bench.restore_to(stick.path("back"));
  std::string all;
  for (int i = 1; i <= 6; ++i)
    all += read_file(stick.path("back/source/nights.db.part-00" + std::to_string(i)));
  EXPECT_TRUE(all == large);
  EXPECT_FALSE(fs::exists(stick.path("back/source/nights.db")));
  // Once more into the same folder: parts of their own, which the message names.
  RestoreResult again = bench.restore_to(stick.path("back"));
  all.clear();
  for (int i = 1; i <= 6; ++i)
    all += read_file(stick.path("back/source/nights.db (2).part-00" + std::to_string(i)));
  EXPECT_TRUE(all == large);
  EXPECT_THAT(testing::PrintToString(lines(again.problems, bench.source(), stick.path("back/source"))),
              testing::HasSubstr("cat 'nights.db (2).part-'* > 'nights.db (2)'"));
  all.clear();
  for (int i = 1; i <= 4; ++i) all += read_file(stick.path("back/source/hole.part-00" + std::to_string(i)));
  EXPECT_TRUE(all == read_file(bench.source() + "/hole"));
  EXPECT_THAT(lines(result.problems, bench.source(), stick.path("back/source")),
              testing::Contains(
                  "restore: nights.db: it is larger than the file system there takes in one file: it is "
                  "in 6 parts, which put together are the file: cat 'nights.db.part-'* > 'nights.db'"));
}

TEST(Targets, OntoATmpfs) {
  if (geteuid() != 0) GTEST_SKIP() << "mounting a tmpfs needs root";
  Workbench bench;
  make_hostile(bench.source());
  bench.run_good();
  std::string mount_point = bench.path("memory");
  fs::create_directories(mount_point);
  ASSERT_EQ(mount("tmpfs", mount_point.c_str(), "tmpfs", 0, "size=64m"), 0);
  write_file(mount_point + "/probe", "");
  bool keeps = setxattr((mount_point + "/probe").c_str(), "user.x", "", 0, 0) == 0;
  RestoreResult result = bench.restore_to(mount_point + "/back");
  std::vector<std::string> expected;
  if (!keeps) {
    for (const char* what :
         {"user.empty of: tagged", "user.folder of: empty folder", "user.large of: tagged"})
      expected.push_back(std::string("set the attribute ") + what + ": Operation not supported");
  }
  EXPECT_THAT(lines(result.problems, bench.source(), mount_point + "/back/source"),
              UnorderedElementsAreArray(expected));
  Snapshot before = take_snapshot(bench.source());
  Snapshot after = take_snapshot(mount_point + "/back/source");
  for (Snapshot* snapshot : {&before, &after}) {
    for (auto& [path, seen] : *snapshot)
      if (!keeps)
        std::erase_if(seen.attributes, [](const std::string& one) { return one.starts_with("user."); });
  }
  EXPECT_EQ(compare_snapshots(before, after), "");
  umount2(mount_point.c_str(), MNT_DETACH);
}

// In a child that has given its rights away: full, increment, differential and back.
void as_ordinary_user() {
  Workbench bench;
  make_hostile(bench.source());
  std::vector<std::string> expected{"read: closed/inner: Permission denied"};
  for (auto kind : {Kind::full, Kind::incremental, Kind::differential}) {
    write_file(bench.source() + "/tally", "after " + std::string(kind_name(kind)));
    RunOutcome outcome = bench.run(kind);
    ASSERT_TRUE(outcome.entry.sequence) << outcome.entry.message;
    EXPECT_THAT(lines(outcome.problems, bench.source(), "-"), UnorderedElementsAreArray(expected));
    chmod((bench.source() + "/closed/inner").c_str(), 0600);
    Snapshot before = take_snapshot(bench.source());
    chmod((bench.source() + "/closed/inner").c_str(), 0);
    before.erase("closed/inner");
    std::string back = bench.path("back-" + std::string(kind_name(kind)));
    RestoreResult result = bench.restore_to(back, *outcome.entry.sequence);
    EXPECT_THAT(
        lines(result.problems, bench.source(), back + "/source"),
        UnorderedElementsAre("restore: closed/inner: it could not be read when the point was made: there "
                             "is nothing to restore"));
    EXPECT_FALSE(result.owners_kept_back);
    EXPECT_EQ(compare_snapshots(before, take_snapshot(back + "/source")), "");
  }
}

TEST(Targets, AnOrdinaryUserSavesAndRestores) {
  if (geteuid() != 0) {
    as_ordinary_user();
    return;
  }
  pid_t child = fork();
  if (child == 0) {
    bool given = setgroups(0, nullptr) == 0 && setgid(1000) == 0 && setuid(1000) == 0;
    EXPECT_TRUE(given);
    umask(022);
    if (given) as_ordinary_user();
    std::fflush(nullptr);
    _exit(testing::Test::HasFailure() ? 1 : 0);
  }
  int status = 0;
  waitpid(child, &status, 0);
  EXPECT_EQ(status, 0) << "see the failures above";
}

}  // namespace
}  // namespace kestrum::test
