// A file that cannot be read any more is kept as it was, in every point that follows, of whatever kind, and
// comes back from the newest when the first is long gone.
#include <sys/stat.h>
#include <unistd.h>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Runs of every kind, until the keep rules have taken the first points.
const char* const kinds[] = {"incremental", "incremental", "full", "incremental",
                             "full",        "incremental", "full"};

class CarryOn : public testing::Test {
 protected:
  void SetUp() override {
    if (geteuid() != 0) GTEST_SKIP() << "becoming another user needs root";
    write_file(desk_.source() + "/ringing.csv", "ring 4711");
    write_file(desk_.source() + "/moths/traps.csv", "three hawkmoths");
    fs::create_symlink("ringing.csv", desk_.source() + "/moths/link");
    write_file(desk_.source() + "/other", "other");
    ASSERT_EQ(std::system(("chown -R 65534:65534 '" + (desk_.folder / "") + "'").c_str()), 0);
  }
  // As an ordinary user, whom modes keep out.
  Ran as_user(const std::vector<std::string>& words) {
    desk_.program.user = 65534;
    return desk_(words);
  }
  Ran define() {
    return as_user({"job", "define", "wardens", "--what-folders", desk_.source(), "--where-destinations",
                    desk_.drive(), "--same-disk", "--protect-encryption", "none", "--keep-points",
                    "2 points"});
  }
  std::string restored(const std::string& path, int expected_exit) {
    fs::remove_all(desk_.folder / "out");
    Ran ran = as_user({"restore", "wardens", desk_.source(), "--to", desk_.folder / "out", "--quiet"});
    EXPECT_EQ(ran.exit, expected_exit) << ran.err << ran.out;
    std::string at = (desk_.folder / "out") + "/source/" + path;
    return fs::exists(at) ? read_file(at) : "(not there)";
  }
  Desk desk_;
};

TEST_F(CarryOn, WhatCannotBeReadStaysInEveryPoint) {
  ASSERT_EQ(define().exit, 0);
  ASSERT_EQ(as_user({"run", "wardens", "--quiet"}).exit, 0);
  chmod((desk_.source() + "/ringing.csv").c_str(), 0);
  chmod((desk_.source() + "/moths").c_str(), 0);
  for (const char* kind : kinds) {
    SCOPED_TRACE(kind);
    write_file(desk_.source() + "/other", std::string("other ") + kind);
    Ran ran = as_user({"run", "wardens", "--kind", kind, "--quiet"});
    EXPECT_EQ(ran.exit, 1) << ran.err << ran.out;
    EXPECT_TRUE(holds(ran.err + ran.out, "it is kept as it was on")) << ran.err << ran.out;
    EXPECT_TRUE(holds(ran.err + ran.out, "kept as the point of")) << ran.err << ran.out;
    EXPECT_EQ(restored("ringing.csv", 1), "ring 4711");
    EXPECT_EQ(restored("moths/traps.csv", 1), "three hawkmoths");
    EXPECT_EQ(as_user({"verify", "wardens", "--quiet"}).exit, 0);
  }
  EXPECT_EQ(desk_.set_folder(1), "") << "the keep rules have taken it";
  Ran listed = as_user({"browse", "wardens", desk_.source()});
  EXPECT_TRUE(holds(listed.out, "(as it was on ")) << listed.out;
  // It can be read again: it is an ordinary file again.
  chmod((desk_.source() + "/ringing.csv").c_str(), 0644);
  chmod((desk_.source() + "/moths").c_str(), 0755);
  write_file(desk_.source() + "/ringing.csv", "ring 4712");
  EXPECT_EQ(as_user({"run", "wardens", "--quiet"}).exit, 0);
  EXPECT_EQ(restored("ringing.csv", 0), "ring 4712");
  EXPECT_EQ(restored("moths/traps.csv", 0), "three hawkmoths");
}

TEST_F(CarryOn, AFolderThatOpensButCannotBeListed) {
  ASSERT_EQ(define().exit, 0);
  ASSERT_EQ(as_user({"run", "wardens", "--quiet"}).exit, 0);
  // It opens, but nothing in it can be looked up, itself included.
  chmod((desk_.source() + "/moths").c_str(), 0444);
  for (const char* kind : kinds) {
    SCOPED_TRACE(kind);
    write_file(desk_.source() + "/other", std::string("other ") + kind);
    Ran ran = as_user({"run", "wardens", "--kind", kind, "--quiet"});
    EXPECT_EQ(ran.exit, 1) << ran.err << ran.out;
    EXPECT_TRUE(holds(ran.err + ran.out, "1 file below it is kept as the point of")) << ran.err << ran.out;
    EXPECT_TRUE(holds(ran.out, " 0 gone")) << ran.out;
    EXPECT_EQ(restored("moths/traps.csv", 1), "three hawkmoths");
    EXPECT_TRUE(fs::is_symlink((desk_.folder / "out") + "/source/moths/link"));
    EXPECT_EQ(restored("other", 1), std::string("other ") + kind);
  }
  EXPECT_EQ(desk_.set_folder(1), "") << "the keep rules have taken it";
  chmod((desk_.source() + "/moths").c_str(), 0755);
  EXPECT_EQ(as_user({"run", "wardens", "--quiet"}).exit, 0);
  EXPECT_EQ(restored("moths/traps.csv", 0), "three hawkmoths");
}

TEST_F(CarryOn, ASourceThatIsNotThereStays) {
  std::string away = desk_.folder / "recordings/2026/dusk";
  write_file(away + "/nightjar.flac", "churr");
  write_file(away + "/deep/er/owl.flac", "hoo");
  ASSERT_EQ(std::system(("chown -R 65534:65534 '" + (desk_.folder / "recordings") + "'").c_str()), 0);
  ASSERT_EQ(as_user({"job", "define", "wardens", "--what-folders", desk_.source(), "--what-folders", away,
                     "--where-destinations", desk_.drive(), "--same-disk", "--protect-encryption", "none",
                     "--keep-points", "2 points"})
                .exit,
            0);
  ASSERT_EQ(as_user({"run", "wardens", "--quiet"}).exit, 0);
  fs::rename(desk_.folder / "recordings", desk_.folder / "unplugged");
  for (const char* kind : kinds) {
    SCOPED_TRACE(kind);
    write_file(desk_.source() + "/other", std::string("other ") + kind);
    Ran ran = as_user({"run", "wardens", "--kind", kind, "--quiet"});
    EXPECT_EQ(ran.exit, 1) << ran.err << ran.out;
    EXPECT_TRUE(
        holds(ran.err + ran.out, "this source is not there; 2 files below it are kept as the point of"))
        << ran.err << ran.out;
    EXPECT_TRUE(holds(ran.out, " 0 gone")) << ran.out;
    Ran listed = as_user({"browse", "wardens", desk_.folder / "recordings"});
    EXPECT_TRUE(holds(listed.out, "2026")) << listed.out << listed.err;
    fs::remove_all(desk_.folder / "out");
    Ran back = as_user({"restore", "wardens", away, "--to", desk_.folder / "out", "--quiet"});
    EXPECT_EQ(back.exit, 1) << back.err;
    EXPECT_EQ(read_file(desk_.folder / "out/dusk/nightjar.flac"), "churr");
    EXPECT_EQ(read_file(desk_.folder / "out/dusk/deep/er/owl.flac"), "hoo");
    EXPECT_EQ(as_user({"verify", "wardens", "--quiet"}).exit, 0);
  }
  EXPECT_EQ(desk_.set_folder(1), "") << "the keep rules have taken it";
  fs::rename(desk_.folder / "unplugged", desk_.folder / "recordings");
  EXPECT_EQ(as_user({"run", "wardens", "--quiet"}).exit, 0);
}

// What the listing told is saved as it is now, the rest as it was; of what it told, one thing fails itself.
TEST_F(CarryOn, AListingThatBreaksOff) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root and /dev/fuse";
  std::string inner = desk_.folder / "card";
  for (const char* name : {"a", "b/1", "b/2", "c", "x", "y/1", "y/deep/2", "z"})
    write_file(inner + "/" + name, name);
  FatRules card(inner, desk_.folder / "x-reader");  // the last of the sources
  ASSERT_TRUE(card.mounted());
  ASSERT_EQ(desk_.define({"--what-folders", card.folder(), "--keep-points", "2 points"}, false).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  write_file(inner + "/.breaks-off", "");  // b, x and z are told, and not a, c and y
  write_file(inner + "/b/3", "new");
  write_file(inner + "/b/2.fails", "");  // looking at b/2 ends with an error of the device
  fs::remove(inner + "/b/1");
  for (const char* kind : kinds) {
    SCOPED_TRACE(kind);
    write_file(inner + "/x", kind);
    Ran ran = desk_({"run", "wardens", "--kind", kind, "--quiet"});
    EXPECT_EQ(ran.exit, 1) << ran.err << ran.out;
    EXPECT_TRUE(holds(ran.err + ran.out, "b/2: Input/output error; it is kept as it was on")) << ran.err;
    EXPECT_TRUE(holds(ran.err + ran.out, "4 files below it are kept as the point of")) << ran.err << ran.out;
    fs::remove_all(desk_.folder / "out");
    EXPECT_EQ(desk_({"restore", "wardens", card.folder(), "--to", desk_.folder / "out", "--quiet"}).exit, 1);
    std::string at = desk_.folder / "out/x-reader/";
    EXPECT_EQ(read_file(at + "x"), kind);
    EXPECT_FALSE(fs::exists(at + "b/1"));
    EXPECT_EQ(read_file(at + "b/3"), "new");
    for (const char* name : {"a", "b/2", "c", "y/1", "y/deep/2", "z"}) EXPECT_EQ(read_file(at + name), name);
  }
  fs::remove(inner + "/.breaks-off");
  fs::remove(inner + "/b/2.fails");
  EXPECT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
