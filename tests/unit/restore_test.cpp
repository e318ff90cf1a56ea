// Bringing files back: clashes, layouts, links, and targets that try to lead elsewhere.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <random>

#include "archive/file_view.hpp"
#include "support/workbench.hpp"
#include "target/names_before.hpp"
#include "target/placed_file.hpp"
#include "target/target_folder.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Restores : public testing::Test {
 protected:
  void SetUp() override {
    write_file(bench_.source() + "/ringing/2027.csv", "old list");
    write_file(bench_.source() + "/ringing/deep/er/tally", "9 terns");
    write_file(bench_.source() + "/notes", "a note");
    bench_.run_good();
  }
  RestoreResult restore_paths(std::vector<std::string> paths, Layout layout = Layout::picked,
                              Clash clash = Clash::keep_both, bool dry = false) {
    RestoreRequest request;
    for (const std::string& path : paths) request.paths.push_back(*TreePath::parse(path));
    request.target = out();
    request.layout = layout;
    request.clash = clash;
    request.dry = dry;
    LookSession subject = bench_.subject();
    return restore(subject, {}, request, *bench_.observer, bench_.control,
                   [this](const RestoredItem& item) { notes_[item.path.absolute()] = fate_text(item.fate); });
  }
  std::string out() const { return bench_.path("out"); }

  Workbench bench_;
  std::map<std::string, std::string> notes_;
};

TEST_F(Restores, Layouts) {
  restore_paths({bench_.source() + "/ringing"});
  EXPECT_EQ(read_file(out() + "/ringing/deep/er/tally"), "9 terns");
  fs::remove_all(out());
  restore_paths({bench_.source() + "/ringing"}, Layout::path);
  EXPECT_EQ(read_file(out() + bench_.source() + "/ringing/deep/er/tally"), "9 terns");
  fs::remove_all(out());
  RestoreResult flat = restore_paths({bench_.source()}, Layout::flat);
  EXPECT_EQ(read_file(out() + "/tally"), "9 terns");
  EXPECT_EQ(read_file(out() + "/2027.csv"), "old list");
  EXPECT_EQ(flat.files, 3u);
  fs::remove_all(out());
  restore_paths({"/"});
  EXPECT_EQ(read_file(out() + bench_.source() + "/notes"), "a note");
}

TEST_F(Restores, WhatLiesInAPickedFolderIsRestoredOnce) {
  RestoreResult result = restore_paths({bench_.source() + "/ringing/deep", bench_.source() + "/ringing",
                                        bench_.source() + "/ringing/2027.csv"});
  EXPECT_EQ(result.files, 2u);
  EXPECT_EQ(take_snapshot(out()).size(), 6u);
}

TEST_F(Restores, Clashes) {
  std::string there = out() + "/2027.csv";
  std::string picked = bench_.source() + "/ringing/2027.csv";
  write_file(there, "what is there");
  EXPECT_EQ(restore_paths({picked}).files, 1u);
  EXPECT_EQ(read_file(there), "what is there");
  EXPECT_EQ(notes_[picked], "beside the one that is there");
  // The same again goes on where that ended: it is there.
  EXPECT_EQ(restore_paths({picked}).same, 1u);
  EXPECT_EQ(take_snapshot(out()).size(), 3u) << "the first, the one beside it, the folder";

  RestoreResult kept = restore_paths({picked}, Layout::picked, Clash::keep_existing);
  EXPECT_EQ(kept.kept, 1u);
  EXPECT_EQ(read_file(there), "what is there");

  set_modified(there, -1000);  // newer than the saved one
  EXPECT_EQ(restore_paths({picked}, Layout::picked, Clash::keep_newer).kept, 1u);
  set_modified(there, 100000);
  EXPECT_EQ(restore_paths({picked}, Layout::picked, Clash::keep_newer).files, 1u);
  EXPECT_EQ(read_file(there), "old list");

  write_file(there, "what is there");
  restore_paths({picked}, Layout::picked, Clash::replace);
  EXPECT_EQ(read_file(there), "old list");
  EXPECT_EQ(notes_[picked], "replaces what was there");
}

TEST_F(Restores, AFolderIsNeverReplacedByAFile) {
  fs::create_directories(out() + "/2027.csv/precious");
  RestoreResult result =
      restore_paths({bench_.source() + "/ringing/2027.csv"}, Layout::picked, Clash::replace);
  EXPECT_EQ(result.problems.size(), 1u);
  EXPECT_TRUE(fs::exists(out() + "/2027.csv/precious"));
}

TEST_F(Restores, DryWritesNothing) {
  RestoreResult result = restore_paths({"/"}, Layout::path, Clash::replace, true);
  EXPECT_EQ(result.files, 3u);
  EXPECT_FALSE(fs::exists(out()));
}

TEST_F(Restores, NothingIsWrittenThroughALink) {
  fs::create_directories(bench_.path("elsewhere"));
  fs::create_directories(out());
  fs::create_directory_symlink(bench_.path("elsewhere"), out() + "/ringing");
  RestoreResult result = restore_paths({bench_.source() + "/ringing"}, Layout::picked, Clash::replace);
  EXPECT_FALSE(result.problems.empty());
  EXPECT_TRUE(fs::is_empty(bench_.path("elsewhere")));
  // A link in a file's place is replaced itself; what it points to stays.
  write_file(bench_.path("elsewhere/target"), "untouched");
  fs::create_symlink(bench_.path("elsewhere/target"), out() + "/notes");
  restore_paths({bench_.source() + "/notes"}, Layout::picked, Clash::replace);
  EXPECT_EQ(read_file(bench_.path("elsewhere/target")), "untouched");
  EXPECT_EQ(read_file(out() + "/notes"), "a note");
  EXPECT_FALSE(fs::is_symlink(out() + "/notes"));
}

TEST_F(Restores, InPlace) {
  write_file(bench_.source() + "/notes", "spoilt");
  fs::remove_all(bench_.source() + "/ringing");
  RestoreRequest request;
  request.paths = {*TreePath::parse(bench_.source())};
  request.target = "/";
  request.in_place = true;
  LookSession subject = bench_.subject();
  RestoreResult result = restore(subject, {}, request, *bench_.observer, bench_.control, {});
  EXPECT_TRUE(result.problems.empty());
  EXPECT_EQ(read_file(bench_.source() + "/notes"), "spoilt") << "never over what is there, unless told";
  EXPECT_EQ(read_file(bench_.source() + "/ringing/2027.csv"), "old list");
  EXPECT_EQ(take_snapshot(bench_.source()).size(), 8u);
}

TEST(RestoreLinks, OneMemberOfAHardLinkGroupHasItsContent) {
  Workbench bench;
  write_file(bench.source() + "/a", "shared");
  fs::create_hard_link(bench.source() + "/a", bench.source() + "/b");
  fs::create_hard_link(bench.source() + "/a", bench.source() + "/c");
  bench.run_good();
  RestoreRequest request;
  request.paths = {*TreePath::parse(bench.source() + "/c")};
  request.target = bench.path("out");
  LookSession subject = bench.subject();
  restore(subject, {}, request, *bench.observer, bench.control, {});
  EXPECT_EQ(read_file(bench.path("out/c")), "shared");
  EXPECT_EQ(bench.restored(1).at("a").links, 3u);
}

TEST(RestoreLinks, WhatIsNoFileKeepsItsOtherNames) {
  Workbench bench;
  std::string pipe = bench.source() + "/pipe";
  ASSERT_EQ(mkfifo(pipe.c_str(), 0640), 0);
  fs::create_hard_link(pipe, bench.source() + "/pipe-again");
  fs::create_symlink("season/2027", bench.source() + "/current");
  ASSERT_EQ(linkat(AT_FDCWD, (bench.source() + "/current").c_str(), AT_FDCWD,
                   (bench.source() + "/newest").c_str(), 0),
            0);
  if (geteuid() == 0) {
    ASSERT_EQ(mknod((bench.source() + "/null").c_str(), S_IFCHR | 0600, makedev(1, 3)), 0);
    fs::create_hard_link(bench.source() + "/null", bench.source() + "/void");
  }
  bench.run_good();
  Snapshot back = bench.restored(1);
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.source()), back), "");
  EXPECT_EQ(back.at("pipe").links, 2u);
  EXPECT_EQ(back.at("newest").links, 2u);
}

TEST(RestoreProblems, WhatCouldNotBeReadIsToldAndNotInvented) {
  if (geteuid() == 0) {
    // Root reads everything; a source that vanishes serves as well.
    Workbench bench;
    write_file(bench.source() + "/good", "x");
    bench.set_job("[what]\nfolders = [\"" + bench.source() + "\", \"" + bench.path("missing") +
                  "\"]\n[where]\ndestinations = [\"" + bench.drive() +
                  "\"]\n[protect]\nencryption = \"none\"\n");
    RunOutcome outcome = bench.run();
    EXPECT_EQ(outcome.entry.result, RunResult::done_with_problems);
    EXPECT_EQ(outcome.entry.exit_code, 1);
    ASSERT_EQ(outcome.problems.size(), 1u);
    return;
  }
  Workbench bench;
  write_file(bench.source() + "/good", "x");
  write_file(bench.source() + "/closed", "secret");
  chmod((bench.source() + "/closed").c_str(), 0);
  RunOutcome outcome = bench.run();
  EXPECT_EQ(outcome.problems.size(), 1u);
  Snapshot back;
  RestoreRequest request;
  request.paths = {TreePath()};
  request.target = bench.path("out");
  LookSession subject = bench.subject();
  RestoreResult result = restore(subject, {}, request, *bench.observer, bench.control, {});
  EXPECT_EQ(result.problems.size(), 1u);
  EXPECT_FALSE(fs::exists(bench.path("out") + bench.source() + "/closed"));
}

// A file of hundreds of extents with holes between them, so that its content takes lists below lists.
std::string sparse_file(const std::string& path) {
  std::mt19937 random(5);
  std::string content(600 * 12288 + 777, '\0');
  write_file(path, "");
  int fd = open(path.c_str(), O_WRONLY | O_CLOEXEC);
  EXPECT_EQ(ftruncate(fd, static_cast<off_t>(content.size())), 0);
  for (std::size_t at = 4096; at + 4096 < content.size(); at += 12288) {
    for (std::size_t i = at; i < at + 4096; ++i) content[i] = static_cast<char>(random());
    EXPECT_EQ(pwrite(fd, content.data() + at, 4096, static_cast<off_t>(at)), 4096);
  }
  close(fd);
  return content;
}

TEST(FileViews, ReadFromAnywhere) {
  Workbench bench;
  std::string content = sparse_file(bench.source() + "/survey.raw");
  write_file(bench.source() + "/empty", "");
  bench.run_good();
  LookSession subject = bench.subject();
  OpenPoint point(subject, {});
  std::optional<Entry> entry = point.catalog().find(*TreePath::parse(bench.source() + "/survey.raw"));
  ASSERT_TRUE(entry);
  EXPECT_TRUE(std::any_of(entry->content.begin(), entry->content.end(),
                          [](const ContentItem& item) { return item.kind == ItemKind::list; }));
  FileView view(point.reader(), *entry);
  ASSERT_EQ(view.size(), content.size());
  auto read = [&](std::uint64_t offset, std::size_t length) {
    std::string out(length, '?');
    out.resize(view.read_at(offset, {reinterpret_cast<std::uint8_t*>(out.data()), out.size()}));
    return out;
  };
  EXPECT_EQ(read(0, content.size()), content);
  EXPECT_EQ(read(0, content.size() + 5000), content) << "short at the end";
  EXPECT_EQ(read(content.size(), 10), "");
  EXPECT_EQ(read(UINT64_MAX, 10), "");
  std::mt19937 random(6);
  for (int i = 0; i < 2000; ++i) {
    std::size_t offset = random() % content.size(), length = random() % 30000;
    ASSERT_EQ(read(offset, length), content.substr(offset, length)) << offset << " " << length;
  }
  std::uint64_t holes = 0, bytes = 0;
  view.each(5000, 100000,
            [&](std::uint64_t length, ByteView part) { (part.empty() ? holes : bytes) += length; });
  EXPECT_EQ(holes + bytes, 100000u);
  EXPECT_GT(holes, 50000u) << "holes stay holes";
  std::optional<Entry> empty = point.catalog().find(*TreePath::parse(bench.source() + "/empty"));
  EXPECT_EQ(FileView(point.reader(), *empty).read_at(0, {}), 0u);
}

TEST(TargetFolder, KeepsBelowItsRoot) {
  TempFolder folder;
  write_file(folder / "file", "x");
  EXPECT_THROW(TargetFolder(folder / "file"), Error);
  TargetFolder target(folder / "made/deep");
  bool created = false;
  EXPECT_GE(target.folder(*TreePath::from_joined("a/b/c"), true, &created), 0);
  EXPECT_TRUE(created);
  EXPECT_GE(target.folder(*TreePath::from_joined("a/b"), true, &created), 0);
  EXPECT_FALSE(created);
  EXPECT_THROW(target.folder(*TreePath::from_joined("x"), false), Error);
  fs::create_directory_symlink("/etc", folder / "made/deep/out");
  EXPECT_THROW(target.folder(*TreePath::from_joined("out"), true), Error);
  // Deeper than handles are kept open.
  TreePath deep;
  for (int i = 0; i < 200; ++i) deep = deep.child("d");
  EXPECT_GE(target.folder(deep, true), 0);
  EXPECT_GE(target.folder(deep.parent().parent(), true), 0);
}

TEST(TargetFolder, WhatAKilledRestoreLeftIsCleared) {
  TempFolder folder;
  const std::string left = ".kestrum-0123456789abcdef-7.part", at_work = ".kestrum-0123456789abcdef-8.part";
  const std::vector<std::string> not_ours{".kestrum-0123456789abcdef-x.part",
                                          ".kestrum-0123456789abcdeg-1.part", ".kestrum-7.part", "list.part",
                                          ".kestrum-0123456789abcdef-9.part.csv"};
  for (const std::string& name : not_ours) write_file(folder / name, "a warden's");
  write_file(folder / left, "half a list");
  write_file(folder / at_work, "half a list");
  write_file(folder / "named", "has another name");
  const std::string second = ".kestrum-0123456789abcdef-5.part";
  fs::create_hard_link(folder / "named", folder / second);
  FileHandle busy(open((folder / at_work).c_str(), O_RDONLY));
  ASSERT_EQ(flock(busy.get(), LOCK_SH), 0);
  FileHandle there(open(folder.path().c_str(), O_RDONLY | O_DIRECTORY));
  TemporaryFile file(there.get());
  ASSERT_EQ(file.create_file(), 0);
  ASSERT_EQ(file.write(as_bytes("a list")), 0);
  ASSERT_EQ(file.flush(), 0) << "has its name from here on";
  NamesBefore(false).enter(TreePath{}, there.get(), false);
  EXPECT_FALSE(fs::exists(folder / left));
  EXPECT_TRUE(fs::exists(folder / at_work)) << "another restore is at it";
  EXPECT_TRUE(fs::exists(folder / second));
  for (const std::string& name : not_ours) EXPECT_TRUE(fs::exists(folder / name)) << name;
  ASSERT_EQ(file.place({"list", false}), 0);
  EXPECT_EQ(read_file(folder / "list"), "a list");
}

}  // namespace
}  // namespace kestrum::test
