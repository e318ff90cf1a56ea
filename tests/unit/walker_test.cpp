// Walking real folders: order, depth, what is left out, what vanishes.
#include "source/walker.hpp"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/error.hpp"
#include "source/file_facts.hpp"
#include "source/file_reader.hpp"
#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

struct Seen {
  std::vector<TreePath> paths;
  std::vector<Problem> problems;
  std::vector<std::string> notes;
  std::size_t above = 0;
};

Seen walk(const std::vector<std::string>& folders, const std::vector<std::string>& skip = {},
          const std::string& excluded = {}) {
  Seen seen;
  auto note = [&](const std::string& text) { seen.notes.push_back(text); };
  Selection selection = make_selection(folders, skip, note);
  if (!excluded.empty()) {
    struct stat status {};
    stat(excluded.c_str(), &status);
    selection.excluded.push_back({status.st_dev, status.st_ino});
  }
  FilesystemTable filesystems;
  Walker walker(
      selection, filesystems, [&](const Problem& problem) { seen.problems.push_back(problem); }, note);
  while (const Walked* found = walker.next()) {
    if (!found->unlooked.empty()) {
      seen.problems.push_back(found->problem());
      continue;
    }
    seen.paths.push_back(found->path);
    if (found->above_source) ++seen.above;
  }
  return seen;
}

bool has(const Seen& seen, const std::string& path) {
  return std::find(seen.paths.begin(), seen.paths.end(), *TreePath::parse(path)) != seen.paths.end();
}

TEST(Walker, ShowsEverythingOnceInCatalogOrder) {
  TempFolder folder;
  for (const char* name : {"a/b/c", "a-b", "a.b/x", "ab", "b/\xff\xfe", "b/\n", "empty/"}) {
    if (std::string(name).ends_with('/')) {
      fs::create_directories(folder / name);
    } else {
      write_file(folder / name, "x");
    }
  }
  Seen seen = walk({folder.path()});
  EXPECT_TRUE(std::is_sorted(seen.paths.begin(), seen.paths.end()));
  EXPECT_EQ(std::adjacent_find(seen.paths.begin(), seen.paths.end()), seen.paths.end());
  EXPECT_EQ(seen.paths.size() - seen.above, 12u);
  EXPECT_EQ(seen.above, TreePath::parse(folder.path())->depth());
}

TEST(Walker, SourcesInsideEachOtherAreTakenOnce) {
  TempFolder folder;
  write_file(folder / "srv/ringing/a", "x");
  write_file(folder / "srv/moths/b", "x");
  write_file(folder / "other/c", "x");
  Seen seen = walk({folder / "srv/ringing", folder / "srv", folder / "srv", folder / "other/c"});
  EXPECT_TRUE(std::is_sorted(seen.paths.begin(), seen.paths.end()));
  EXPECT_EQ(std::adjacent_find(seen.paths.begin(), seen.paths.end()), seen.paths.end());
  EXPECT_TRUE(has(seen, folder / "srv/moths/b"));
  EXPECT_TRUE(has(seen, folder / "other/c"));
  EXPECT_EQ(seen.notes.size(), 2u);
  EXPECT_TRUE(seen.problems.empty());
}

TEST(Walker, ALinkedSourceIsFollowedAndSaid) {
  TempFolder folder;
  write_file(folder / "real/a", "x");
  fs::create_symlink(folder / "real", folder / "link");
  Seen seen = walk({folder / "link"});
  EXPECT_TRUE(has(seen, folder / "real/a"));
  ASSERT_EQ(seen.notes.size(), 1u);
  EXPECT_NE(seen.notes[0].find("is really"), std::string::npos);
}

TEST(Walker, LinksBelowASourceAreNeverFollowed) {
  TempFolder folder;
  write_file(folder / "secret/a", "x");
  fs::create_directories(folder / "source");
  fs::create_directory_symlink(folder / "secret", folder / "source/link");
  fs::create_directory_symlink(folder / "source", folder / "source/loop");
  Seen seen = walk({folder / "source"});
  EXPECT_EQ(seen.paths.size() - seen.above, 3u);
}

TEST(Walker, DeepTreesBeyondPathMax) {
  TempFolder folder;
  std::string name(200, 'd');
  int fd = open(folder.path().c_str(), O_RDONLY | O_DIRECTORY);
  constexpr int depth = 300;  // 60,000 bytes of path
  for (int i = 0; i < depth; ++i) {
    ASSERT_EQ(mkdirat(fd, name.c_str(), 0755), 0);
    int file = openat(fd, "z", O_CREAT | O_WRONLY, 0644);
    close(file);
    int next = openat(fd, name.c_str(), O_RDONLY | O_DIRECTORY);
    close(fd);
    fd = next;
  }
  close(fd);
  Seen seen = walk({folder.path()});
  EXPECT_TRUE(seen.problems.empty());
  EXPECT_EQ(seen.paths.size() - seen.above, 1u + 2 * depth);
  EXPECT_TRUE(std::is_sorted(seen.paths.begin(), seen.paths.end()));
  // What made it is not made for removing it.
  std::string command = "rm -rf '" + folder.path() + "'";
  EXPECT_EQ(std::system(command.c_str()), 0);
}

TEST(Walker, SkipsWhatThePatternsSay) {
  TempFolder folder;
  for (const char* name :
       {"a.part", "keep.csv", "scratch/x", "deep/scratch/y", "deep/scratch.csv", "cache/z"})
    write_file(folder / name, "x");
  Seen seen = walk({folder.path()}, {"*.part", "scratch/", folder / "cache"});
  EXPECT_FALSE(has(seen, folder / "a.part"));
  EXPECT_FALSE(has(seen, folder / "scratch"));
  EXPECT_FALSE(has(seen, folder / "deep/scratch/y"));
  EXPECT_FALSE(has(seen, folder / "cache"));
  EXPECT_TRUE(has(seen, folder / "keep.csv"));
  EXPECT_TRUE(has(seen, folder / "deep/scratch.csv"));
}

TEST(Walker, TheDestinationIsLeftOutAndSaid) {
  TempFolder folder;
  write_file(folder / "a", "x");
  write_file(folder / "drive/b", "x");
  Seen seen = walk({folder.path()}, {}, folder / "drive");
  EXPECT_FALSE(has(seen, folder / "drive"));
  ASSERT_EQ(seen.notes.size(), 1u);
}

TEST(Walker, TheKernelsOwnViewIsLeftOut) {
  Seen seen = walk({"/proc"});
  EXPECT_TRUE(seen.paths.size() - seen.above == 0u);
  EXPECT_EQ(seen.notes.size(), 1u);
}

TEST(Walker, AMissingSourceIsAProblemAndTheOthersGoOn) {
  TempFolder folder;
  write_file(folder / "b/file", "x");
  Seen seen = walk({folder / "a", folder / "b"});
  ASSERT_EQ(seen.problems.size(), 1u);
  EXPECT_EQ(seen.problems[0].path, folder / "a");
  EXPECT_TRUE(has(seen, folder / "b/file"));
}

TEST(Walker, RelativeSourcesAreRefused) {
  EXPECT_THROW(walk({"srv"}), Error);
  EXPECT_THROW(walk({"/srv/../etc"}), Error);
}

TEST(FileReader, TellsDataAndHoles) {
  TempFolder folder;
  std::string path = folder / "sparse";
  int fd = open(path.c_str(), O_CREAT | O_RDWR, 0644);
  ASSERT_EQ(pwrite(fd, "head", 4, 0), 4);
  ASSERT_EQ(pwrite(fd, "tail", 4, 8 << 20), 4);
  ASSERT_EQ(ftruncate(fd, 16 << 20), 0);
  close(fd);
  int at = open(folder.path().c_str(), O_RDONLY | O_DIRECTORY);
  std::optional<FileReader> file = FileReader::open(at, "sparse");
  ASSERT_TRUE(file);
  std::uint64_t data = 0, holes = 0;
  std::string content(16u << 20, '\0');
  FileReader::Sink sink;
  sink.data = [&](ByteView bytes) {
    std::copy(bytes.begin(), bytes.end(), content.begin() + static_cast<std::ptrdiff_t>(data + holes));
    data += bytes.size();
  };
  sink.data_end = [] {};
  sink.hole = [&](std::uint64_t length) { holes += length; };
  EXPECT_EQ(file->read_all(sink), 0);
  EXPECT_EQ(data + holes, 16u << 20);
  EXPECT_LT(data, 1u << 20);
  EXPECT_EQ(content, read_file(path));
  EXPECT_FALSE(file->changed());
  write_file(path, "other");
  EXPECT_TRUE(file->changed());
  EXPECT_FALSE(FileReader::open(at, "nothing"));
  ASSERT_EQ(mkfifoat(at, "pipe", 0600), 0);
  EXPECT_FALSE(FileReader::open(at, "pipe")) << "and does not wait for a writer";
  close(at);
}

}  // namespace
}  // namespace kestrum::test
