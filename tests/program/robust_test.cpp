// Small files that break, readers that go away: a job must not stop for months because of them.
#include <unistd.h>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class Robust : public testing::Test {
 protected:
  void SetUp() override {
    for (int i = 0; i < 300; ++i)
      write_file(desk_.source() + "/list-" + std::to_string(i), std::to_string(i));
    desk_.define();
    ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  }
  Desk desk_;
};

TEST_F(Robust, ADamagedLedgerIsMovedAsideAndTheRunGoesOn) {
  std::string ledger = desk_.folder / "home/state/ledger.db";
  for (const char* part : {"-wal", "-shm"}) fs::remove(ledger + part);
  write_file(ledger, "no database at all, and long enough to be looked at as one");
  Ran ran = desk_({"run", "wardens"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_TRUE(holds(ran.err, "the history begins anew")) << ran.err;
  EXPECT_TRUE(fs::exists(ledger + ".damaged"));
  EXPECT_EQ(desk_({"status"}).exit, 0);
}

TEST_F(Robust, ADamagedDriveFileIsWrittenAnewWhenTheSetsProveTheDrive) {
  std::string file = desk_.drive() + "/drive.json";
  std::string before = read_file(file);
  write_file(file, before.substr(0, 40));
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "quick"}).exit, 4);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "quick"}).exit, 0);
  // Another drive with a damaged file proves nothing.
  fs::remove_all(desk_.job_folder());
  write_file(file, before.substr(0, 40));
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 4);
}

TEST_F(Robust, ADamagedJobIdentityIsWrittenAnew) {
  write_file(desk_.job_folder() + "/job.json", "{");
  EXPECT_EQ(desk_({"restore", "wardens", "/", "--to", desk_.folder / "out"}).exit, 0);
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "quick"}).exit, 4);
  Ran ran = desk_({"run", "wardens"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_TRUE(holds(ran.out, "incremental")) << ran.out;
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "quick"}).exit, 0);
}

TEST_F(Robust, OthersOnTheMachineSeeNeitherUnencryptedSetsNorTheHistory) {
  ASSERT_EQ(desk_({"job", "define", "open", "--what-folders", desk_.source(), "--same-disk",
                   "--where-destinations", desk_.drive(), "--protect-encryption", "none"})
                .exit,
            0);
  ASSERT_EQ(desk_({"run", "open"}).exit, 0);
  auto mode = [](const std::string& path) {
    return static_cast<unsigned>(fs::status(path).permissions()) & 077;
  };
  EXPECT_EQ(mode(desk_.drive() + "/skerry-1/open"), 0u);
  EXPECT_EQ(mode(desk_.folder / "home/state"), 0u);
  EXPECT_EQ(mode(desk_.folder / "home/state/job-state/open.json"), 0u);
}

TEST_F(Robust, AReaderThatGoesAwayStopsNothing) {
  std::string command = "KESTRUM_HOME='" + (desk_.folder / "home") +
                        "' KESTRUM_MACHINE=skerry-1 '" KESTRUM_BINARY "' restore wardens / --to '" +
                        (desk_.folder / "out") + "' 2>&1 | true";
  EXPECT_EQ(std::system(command.c_str()), 0);
  for (int i = 0; i < 100 && !fs::exists((desk_.folder / "out") + desk_.source() + "/list-99"); ++i)
    usleep(100000);
  usleep(300000);
  std::size_t files = 0;
  for (const auto& entry : fs::recursive_directory_iterator(desk_.folder / "out"))
    files += entry.is_regular_file() ? 1 : 0;
  EXPECT_EQ(files, 300u);
}

TEST_F(Robust, AFullOutputIsTold) {
  std::string command = "KESTRUM_HOME='" + (desk_.folder / "home") +
                        "' '" KESTRUM_BINARY "' points wardens >/dev/full 2>/dev/null";
  int status = std::system(command.c_str());
  EXPECT_EQ(WEXITSTATUS(status), 3);
}

}  // namespace
}  // namespace kestrum::test
