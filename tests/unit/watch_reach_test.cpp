// Watched folders that are hard to reach: deeper than a path can be long, or not to be read at first.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <sys/resource.h>

#include "base/file_handle.hpp"
#include "support/mounts.hpp"
#include "support/watched.hpp"

namespace kestrum::test {
namespace {

// So deep that no path leads there.
FileHandle make_deep(const std::string& root) {
  const std::string name(200, 'd');
  FileHandle at(open(root.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  for (int i = 0; i < 25; ++i) {
    EXPECT_EQ(mkdirat(at.get(), name.c_str(), 0755), 0);
    at = FileHandle(openat(at.get(), name.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  }
  EXPECT_TRUE(at);
  return at;
}

void write_in(const FileHandle& folder, const std::string& name, const std::string& content) {
  FileHandle file(openat(folder.get(), name.c_str(), O_CREAT | O_TRUNC | O_WRONLY | O_CLOEXEC, 0644));
  EXPECT_EQ(write(file.get(), content.data(), content.size()), static_cast<ssize_t>(content.size()));
}

TEST_P(Watched, FoldersDeeperThanAPathCanBeLong) {
  const FileHandle deep = make_deep(bench_.source());
  fs::create_directory(bench_.path("elsewhere"));
  const FileHandle other = make_deep(bench_.path("elsewhere"));
  write_file(bench_.source() + "/list", "1");
  write_in(deep, "tally", "terns");
  begin();
  run();
  write_in(other, "tally", "of nobody's interest");
  EXPECT_TRUE(told_at_once());
  write_in(deep, "tally", "gulls, and terns");
  EXPECT_EQ(told_at_once(), GetParam() == Way::folders);
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
  // So is one that is made there.
  EXPECT_EQ(mkdirat(deep.get(), "more", 0755), 0);
  const FileHandle more(openat(deep.get(), "more", O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  write_in(more, "tally", "puffins");
  EXPECT_FALSE(told_at_once());
  EXPECT_EQ(run().entry.totals.new_files, 1u);
  write_in(more, "tally", "puffins, and gulls");
  EXPECT_EQ(told_at_once(), GetParam() == Way::folders);
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
}

// What cannot be opened just then may count.
TEST_P(Watched, AFolderThatComesWhileTooManyFilesAreOpen) {
  const std::string fresh = bench_.source() + "/fresh";
  begin();
  run();
  rlimit before{};
  ASSERT_EQ(getrlimit(RLIMIT_NOFILE, &before), 0);
  const rlimit few{256, before.rlim_max};
  ASSERT_EQ(setrlimit(RLIMIT_NOFILE, &few), 0);
  {
    std::vector<FileHandle> open_files;
    while (FileHandle file{open("/dev/null", O_RDONLY | O_CLOEXEC)}) open_files.push_back(std::move(file));
    EXPECT_EQ(mkdir(fresh.c_str(), 0755), 0);
    watch_->activity();
  }
  ASSERT_EQ(setrlimit(RLIMIT_NOFILE, &before), 0);
  write_file(fresh + "/1", "one");
  const auto lost = std::chrono::steady_clock::now();
  EXPECT_FALSE(told_at_once());
  EXPECT_GT(std::chrono::steady_clock::now() - lost, std::chrono::seconds(1))
      << "what is lost often is no load";
  EXPECT_EQ(run().entry.totals.new_files, 1u);
  write_file(fresh + "/1", "changed");
  EXPECT_TRUE(told_at_once());
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
  EXPECT_TRUE(looked_at_a_part());
}

// The agent of an ordinary user watches; root gives a folder free.
class WatchedByNobody : public Watched {
 protected:
  void SetUp() override {
    if (geteuid() != 0) GTEST_SKIP() << "only root can be somebody else";
    watcher_ = 65534;
    for (const std::string& folder : {bench_.path(""), bench_.source()}) chmod(folder.c_str(), 0755);
    write_file(bench_.source() + "/list/1", "1");
    write_file(bench_.source() + "/shut/2", "2");
  }
};
INSTANTIATE_TEST_SUITE_P(Ways, WatchedByNobody, testing::Values(Way::folders));

TEST_P(WatchedByNobody, AFolderThatCanBeReadLater) {
  const std::string shut = bench_.source() + "/shut";
  chmod(shut.c_str(), 0700);
  begin();
  run();
  write_file(shut + "/2", "changed where nobody sees it");
  EXPECT_FALSE(watch_->activity());
  chmod(shut.c_str(), 0755);
  EXPECT_TRUE(told_at_once());
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
  EXPECT_TRUE(looked_at_a_part());
  write_file(shut + "/2", "seen");
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
  EXPECT_TRUE(looked_at_a_part());
}

TEST_P(WatchedByNobody, ASourceThatCanBeReadLater) {
  chmod(bench_.source().c_str(), 0700);
  begin();
  run();
  chmod(bench_.source().c_str(), 0755);
  EXPECT_FALSE(told_at_once());
  run();
  write_file(bench_.source() + "/list/1", "seen");
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
  EXPECT_TRUE(looked_at_a_part());
}

TEST_P(WatchedByNobody, ASourceIsReplacedInAFolderThatCannotBeRead) {
  chmod(bench_.path("").c_str(), 0711);
  begin();
  run();
  fs::rename(bench_.source(), bench_.path("before"));
  fs::copy(bench_.path("before"), bench_.source(), fs::copy_options::recursive);
  EXPECT_FALSE(told_at_once());
  run();
  write_file(bench_.source() + "/list/1", "seen");
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
  EXPECT_TRUE(looked_at_a_part());
}

// A folder that is shown in two places of the sources.
class WatchedTwice : public Watched {
 protected:
  void SetUp() override {
    if (!may_mount()) GTEST_SKIP() << "mounting needs root";
    write_file(bench_.source() + "/list/1", "1");
    fs::create_directory(bench_.source() + "/again");
    again_.emplace(bench_.source() + "/list", bench_.source() + "/again", "--bind");
    ASSERT_TRUE(again_->good());
  }
  std::optional<Mounted> again_;
};
INSTANTIATE_TEST_SUITE_P(Ways, WatchedTwice, testing::Values(Way::folders, Way::file_systems),
                         [](const auto& one) { return name_of(one.param); });

TEST_P(WatchedTwice, IsSeenTwiceOrNotWatched) {
  const std::string text = bench_.home().load_job("job").text;
  for (const char* mounted : {"save", "leave out"}) {
    bench_.set_job("[what]\nmounted-below = \"" + std::string(mounted) + "\"\n" +
                   text.substr(text.find('\n') + 1));
    if (GetParam() == Way::folders) {
      watch();
      EXPECT_EQ(watch_->standing().state, ChangeWatch::State::impossible);
      EXPECT_THAT(watch_->standing().words, testing::HasSubstr("are the same folder"));
      continue;
    }
    begin();
    run();
    write_file(bench_.source() + "/list/1", "changed " + std::string(mounted));
    EXPECT_EQ(run().entry.totals.changed_files, 2u) << mounted;
    EXPECT_TRUE(looked_at_a_part()) << mounted;
  }
}

}  // namespace
}  // namespace kestrum::test
