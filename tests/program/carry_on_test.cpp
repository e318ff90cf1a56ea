// A file that cannot be read any more is kept as it was, in every point that follows, of whatever kind, and
// comes back from the newest when the first is long gone.
#include <sys/stat.h>
#include <unistd.h>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

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
    Program drop("/usr/bin/setpriv");
    drop.environment = desk_.program.environment;
    std::vector<std::string> all{"--reuid=65534", "--regid=65534", "--clear-groups", KESTRUM_BINARY};
    all.insert(all.end(), words.begin(), words.end());
    return drop.run(all);
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
  // Incremental, incremental, full, full, and the keep rules have taken the first ones by then.
  for (const char* kind :
       {"incremental", "incremental", "full", "incremental", "full", "incremental", "full"}) {
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

}  // namespace
}  // namespace kestrum::test
