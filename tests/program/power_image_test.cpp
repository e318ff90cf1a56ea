// The power goes the moment after a command has said that it is done: what the drive holds then, read by a
// real file system that comes up from it, is whole. A run, a fold, and a restore that replaces. Needs root
// and loop devices.
#include <fcntl.h>
#include <unistd.h>

#include <csignal>
#include <fstream>

#include "base/file_handle.hpp"
#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

struct Kind {
  const char* name;
  const char* make;   // the command that makes it, before the file's name
  const char* mount;  // options
};
constexpr Kind kinds[] = {
    {"ext4", "mkfs.ext4 -q -F", ""},
    {"ext4_without_journal", "mkfs.ext4 -q -F -O ^has_journal", ""},
    {"xfs", "mkfs.xfs -q -f", "-o nouuid"},
    {"btrfs", "mkfs.btrfs -q -f", ""},
};

class PowerImages : public testing::TestWithParam<Kind> {
 protected:
  // An empty file system in a file, mounted there; nothing when this kernel has none of that kind.
  std::unique_ptr<Mounted> make(const std::string& image, const std::string& at) {
    std::ofstream(image).close();
    fs::resize_file(image, std::uintmax_t{400} << 20);
    if (std::system((std::string(GetParam().make) + " '" + image + "' > /dev/null 2>&1").c_str()) != 0)
      return nullptr;
    return mount(image, at);
  }
  std::unique_ptr<Mounted> mount(const std::string& image, const std::string& at) {
    // An ext4 without a journal is checked first, as it would be by a system that comes up.
    if (std::string(GetParam().name) == "ext4_without_journal")
      std::system(("e2fsck -fy '" + image + "' > /dev/null 2>&1").c_str());
    auto mounted = std::make_unique<Mounted>(image, at, std::string("-o loop ") + GetParam().mount);
    return mounted->good() ? std::move(mounted) : nullptr;
  }
  // What is on the disk now, without anything that the file system has not given it yet.
  void cut(const std::string& image, const std::string& to) {
    ASSERT_EQ(std::system(("cp --sparse=always '" + image + "' '" + to + "'").c_str()), 0);
  }
};

TEST_P(PowerImages, WhatWasSaidToBeDoneIsThere) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  std::string image = desk.folder / "drive.img", after = desk.folder / "after.img",
              there = desk.folder / "there";
  std::unique_ptr<Mounted> drive = make(image, desk.drive());
  if (!drive) GTEST_SKIP() << "this kernel mounts no " << GetParam().name;
  desk.define({"--how-renew", "never", "--keep-points", "100 points"}, false);
  Snapshot expected;
  for (int point = 1; point <= 4; ++point) {
    write_file(desk.source() + "/list", "state " + std::to_string(point));
    write_file(desk.source() + "/photo-" + std::to_string(point),
               noise(static_cast<unsigned>(point), 700000));
    expected = take_snapshot(desk.source());
    ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  }
  auto look = [&](const std::string& what) {
    SCOPED_TRACE(what);
    cut(image, after);
    std::unique_ptr<Mounted> cut_drive = mount(after, there);
    ASSERT_TRUE(cut_drive);
    Ran verified = desk({"verify", there, "--quiet"});
    EXPECT_EQ(verified.exit, 0) << verified.out << verified.err;
    fs::remove_all(desk.folder / "out");
    Ran restored = desk({"restore", there, desk.source(), "--to", desk.folder / "out", "--with-owners",
                         "--with-set-id", "--quiet"});
    EXPECT_EQ(restored.exit, 0) << restored.err;
    EXPECT_EQ(compare_snapshots(expected, take_snapshot((desk.folder / "out") + "/source")), "");
  };
  look("after a run");
  ASSERT_EQ(desk({"fold", "wardens", "--last", "3", "--beyond-rules", "--yes"}).exit, 0);
  look("after a fold");
}

TEST_P(PowerImages, ARestoreThatReplacesLeavesOneOrTheOther) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  Desk desk;
  std::string image = desk.folder / "target.img", after = desk.folder / "after.img",
              there = desk.folder / "there";
  std::string target = desk.folder / "target";
  constexpr int files = 300;
  std::unique_ptr<Mounted> mounted = make(image, target);
  if (!mounted) GTEST_SKIP() << "this kernel mounts no " << GetParam().name;
  desk.define({}, false);
  for (int i = 0; i < files; ++i)
    write_file(desk.source() + "/list-" + std::to_string(i), noise(static_cast<unsigned>(i), 5000));
  ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  Snapshot expected = take_snapshot(desk.source());
  std::vector<std::string> restore{"restore", "wardens", desk.source(), "--to",          target,
                                   "--clash", "replace", "--quiet",     "--with-owners", "--with-set-id"};
  for (int i = 0; i < files; ++i)
    write_file(target + "/source/list-" + std::to_string(i), "what was there before " + std::to_string(i));
  sync();
  // In the midst of it, when somebody makes the file system's own notes durable and nobody the content: each
  // file is the old one or the new one, and whole.
  const std::string some = target + "/source/list-120";
  pid_t running = desk.program.start(restore);
  while (fs::file_size(some) != 5000) usleep(200);
  kill(running, SIGSTOP);
  FileHandle folder(open((target + "/source").c_str(), O_RDONLY | O_DIRECTORY));
  ASSERT_EQ(fsync(folder.get()), 0);
  cut(image, after);
  {
    std::unique_ptr<Mounted> cut_drive = mount(after, there);
    ASSERT_TRUE(cut_drive);
    for (int i = 0; i < files; ++i) {
      std::string name = "list-" + std::to_string(i), content = read_file(there + "/source/" + name);
      EXPECT_TRUE(content == "what was there before " + std::to_string(i) ||
                  content == expected[name].content)
          << name << " has " << content.size() << " bytes";
    }
  }
  kill(running, SIGCONT);
  ASSERT_EQ(Program::wait(running), 0);
  cut(image, after);
  std::unique_ptr<Mounted> cut_drive = mount(after, there);
  ASSERT_TRUE(cut_drive);
  EXPECT_EQ(compare_snapshots(expected, take_snapshot(there + "/source")), "");
}

INSTANTIATE_TEST_SUITE_P(Kinds, PowerImages, testing::ValuesIn(kinds),
                         [](const auto& kind) { return std::string(kind.param.name); });

}  // namespace
}  // namespace kestrum::test
