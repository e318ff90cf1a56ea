// The old machine is gone, or the job's name, or the drive: what is there still belongs together.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;
using testing::HasSubstr;
using testing::Not;

class OtherMachine : public testing::Test {
 protected:
  OtherMachine() { write_file(desk_.source() + "/list.csv", "3,Gannet\n"); }
  void SetUp() override {
    if (geteuid() != 0) GTEST_SKIP() << "needs root: files of several people";
  }
  std::string back(const std::string& name = "list.csv") const { return desk_.folder / ("back/" + name); }
  Ran restore(std::vector<std::string> more = {}) {
    fs::remove_all(desk_.folder / "back");
    std::vector<std::string> words{"restore", "wardens", desk_.source() + "/list.csv", "--to",
                                   desk_.folder / "back"};
    words.insert(words.end(), more.begin(), more.end());
    return desk_(words);
  }
  static unsigned owner_of(const std::string& path) {
    struct stat status {};
    return stat(path.c_str(), &status) == 0 ? status.st_uid : 99999;
  }
  Desk desk_;
};

// On a machine where account 4711 has that name, or none has.
Ran with_account(const Desk& desk, const std::string& name, const std::string& words) {
  const std::string passwd = desk.folder / "passwd", err = desk.folder / "err";
  write_file(passwd,
             "root:x:0:0::/root:/bin/sh\n" + (name.empty() ? "" : name + ":x:4711:4711::/home:/bin/sh\n"));
  const std::string command = "unshare -m sh -c \"mount --bind '" + passwd +
                              "' /etc/passwd && KESTRUM_HOME='" + (desk.folder / "home") +
                              "' KESTRUM_MACHINE=skerry-1 " + KESTRUM_BINARY + " " + words + " 2> '" + err +
                              "'\" > /dev/null";
  Ran ran;
  ran.exit = WEXITSTATUS(std::system(command.c_str()));
  ran.err = read_file(err);
  return ran;
}

TEST_F(OtherMachine, OwnersGoByNameAndWhoIsNotThereIsTold) {
  ASSERT_EQ(chown((desk_.source() + "/list.csv").c_str(), 4711, 0), 0);
  ASSERT_EQ(desk_.define().exit, 0);
  ASSERT_EQ(with_account(desk_, "isla", "run wardens").exit, 0);
  const std::string words = "restore wardens '" + desk_.source() + "/list.csv' --to '" +
                            (desk_.folder / "back") + "' --clash replace";
  EXPECT_THAT(with_account(desk_, "isla", words).err, Not(HasSubstr("no account of this machine")));
  Ran nobody = with_account(desk_, "", words);
  EXPECT_EQ(nobody.exit, 0);
  EXPECT_THAT(nobody.err, HasSubstr("no account of this machine: isla (number 4711)"));
  // Somebody else's number: it is said whose.
  Ran other = with_account(desk_, "magnus", words);
  EXPECT_THAT(other.err, HasSubstr("isla (number 4711, which is magnus here)"));
  EXPECT_THAT(other.err, HasSubstr("--owner NAME"));
  EXPECT_EQ(owner_of(back()), 4711U);
  EXPECT_EQ(with_account(desk_, "magnus", words + " --owner root").exit, 0);
  EXPECT_EQ(owner_of(back()), 0U);
}

TEST_F(OtherMachine, EverythingMayBeGivenToOneAccount) {
  chmod((desk_.source() + "/list.csv").c_str(), 04755);
  ASSERT_EQ(desk_.define().exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(restore({"--owner", "nobody"}).exit, 0);
  EXPECT_EQ(owner_of(back()), 65534U);
  EXPECT_EQ(restore({"--owner", "12345"}).exit, 0);
  EXPECT_EQ(owner_of(back()), 12345U);
  EXPECT_EQ(restore({"--owner", "no-such-person"}).exit, 2);
  EXPECT_FALSE(fs::exists(back()));
}

TEST_F(OtherMachine, ADriveOpensAtItsTopForAnOrdinaryUser) {
  make_ext4_image(desk_.folder / "drive.img", 32, "tern-1");
  LoopDevice device(desk_.folder / "drive.img");
  const std::string top = desk_.folder / "top";
  Mounted mounted(device.path(), top);
  ASSERT_TRUE(mounted.good());
  fs::create_directories(top + "/copies/office");
  fs::create_directories(top + "/private");
  chmod((top + "/private").c_str(), 0);
  ASSERT_EQ(desk_({"job", "define", "wardens", "--what-folders", desk_.source(), "--where-destinations",
                   top + "/copies/office", "--same-disk", "--protect-passphrase", "file:" + desk_.pass()})
                .exit,
            0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  chmod(desk_.folder.path().c_str(), 0755);
  write_file(desk_.folder / "theirs", "tern in the fog\n");
  ASSERT_EQ(chown((desk_.folder / "theirs").c_str(), 65534, 65534), 0);
  chmod((desk_.folder / "theirs").c_str(), 0600);
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "none";
  desk_.program.user = 65534;
  EXPECT_THAT(desk_({"points", top}).out, HasSubstr("Job wardens"));
  EXPECT_THAT(desk_({"status", top}).out, HasSubstr("skerry-1: wardens"));
  EXPECT_THAT(desk_({"find", top, "list", "--passphrase", "file:" + (desk_.folder / "theirs")}).out,
              HasSubstr("point 1, in the newest point"));
  fs::create_directories(desk_.folder / "theirs-back");
  ASSERT_EQ(chown((desk_.folder / "theirs-back").c_str(), 65534, 65534), 0);
  Ran back = desk_({"restore", top, desk_.source(), "--passphrase", "file:" + (desk_.folder / "theirs"),
                    "--to", desk_.folder / "theirs-back"});
  EXPECT_EQ(back.exit, 0) << back.err;
  EXPECT_THAT(back.err, HasSubstr("the files belong to you now"));
  EXPECT_EQ(owner_of(desk_.folder / "theirs-back/source/list.csv"), 65534U);
  // Two of them: which one is asked.
  desk_.program.user = 0;
  fs::create_directories(top + "/other");
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "home2";
  ASSERT_EQ(desk_({"job", "define", "moths", "--what-folders", desk_.source(), "--where-destinations",
                   top + "/other", "--same-disk", "--protect-passphrase", "file:" + desk_.pass()})
                .exit,
            0);
  ASSERT_EQ(desk_({"run", "moths"}).exit, 0);
  Ran which = desk_({"points", top});
  EXPECT_EQ(which.exit, 2);
  EXPECT_THAT(which.err, HasSubstr(top + "/copies/office"));
  EXPECT_THAT(which.err, HasSubstr(top + "/other"));
}

TEST_F(OtherMachine, ADeadDriveIsReplacedUnderTheSameLabel) {
  fs::create_directories(desk_.folder / "mount");
  std::string uuid = "0a9f8e7d-1111-4222-8333-44445555666";
  for (int drive = 1; drive <= 2; ++drive) {
    const std::string image = desk_.folder / ("tern" + std::to_string(drive) + ".img");
    make_ext4_image(image, 32, "replaced-tern", uuid + std::to_string(drive));
    LoopDevice device(image);
    Mounted mounted(device.path(), desk_.folder / "mount");
    ASSERT_TRUE(mounted.good());
    if (drive == 1) {
      ASSERT_EQ(desk_({"job", "define", "wardens", "--what-folders", desk_.source(), "--where-destinations",
                       "label:replaced-tern", "--same-disk", "--protect-passphrase", "file:" + desk_.pass()})
                    .exit,
                0);
    } else {
      Ran refused = desk_({"run", "wardens"});
      EXPECT_EQ(refused.exit, 5);
      EXPECT_THAT(refused.err, HasSubstr("--new-drive"));
      EXPECT_THAT(desk_({"status"}).out, HasSubstr("(not there)"));
      EXPECT_EQ(desk_({"run", "wardens", "--new-drive"}).exit, 0);
    }
    EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
    EXPECT_EQ(desk_({"status"}).exit, 0);
    EXPECT_THAT(desk_({"points", "wardens"}).out, HasSubstr("incremental"));
  }
}

TEST_F(OtherMachine, ARenamedJobKeepsItsSetsAndItsHistory) {
  ASSERT_EQ(desk_.define({"--what-description", "the wardens' lists"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_THAT(desk_({"job", "show", "wardens"}).out, HasSubstr("the wardens' lists"));
  EXPECT_THAT(desk_({"job", "list"}).out, HasSubstr("the wardens' lists"));
  ASSERT_EQ(desk_({"job", "copy", "wardens", "moths"}).exit, 0);
  ASSERT_EQ(desk_({"run", "moths"}).exit, 0);
  EXPECT_EQ(desk_({"job", "rename", "wardens", "moths"}).exit, 2);
  EXPECT_THAT(desk_({"run", "moths"}).out, HasSubstr("point 2, incremental"));
  EXPECT_EQ(desk_({"job", "rename", "nobody", "ringers"}).exit, 2);
  EXPECT_EQ(desk_({"job", "rename", "wardens", "a/b"}).exit, 2);
  Ran renamed = desk_({"job", "rename", "wardens", "ringers"});
  ASSERT_EQ(renamed.exit, 0) << renamed.err;
  EXPECT_EQ(desk_({"points", "wardens"}).exit, 2);
  EXPECT_THAT(desk_({"points", "ringers"}).out, HasSubstr("  1  "));
  EXPECT_EQ(desk_({"status", "ringers"}).exit, 0);
  Ran run = desk_({"run", "ringers"});
  EXPECT_EQ(run.exit, 0) << run.err;
  EXPECT_THAT(run.out, HasSubstr("point 2, incremental"));
  EXPECT_EQ(Json::parse(desk_({"history", "ringers", "--json"}).out)["runs"].size(), 2U);
  EXPECT_EQ(desk_({"verify", "ringers"}).exit, 0);
  // Whoever has only the drive finds it under its new name.
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "none";
  EXPECT_THAT(desk_({"points", desk_.drive(), "--job", "ringers"}).out, HasSubstr("Job ringers"));
  // Another job of the old name gets a folder and sets of its own.
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "home";
  ASSERT_EQ(desk_.define().exit, 0);
  EXPECT_THAT(desk_({"run", "wardens"}).out, HasSubstr("point 1, full"));
  EXPECT_THAT(desk_({"run", "ringers"}).out, HasSubstr("point 3, incremental"));
}

TEST_F(OtherMachine, ARunSaysManyThingsShortly) {
  for (int i = 0; i < 60; ++i) {
    sockaddr_un address{};
    address.sun_family = AF_UNIX;
    const std::string path = desk_.source() + "/s" + std::to_string(i);
    ASSERT_LT(path.size(), sizeof address.sun_path);
    path.copy(address.sun_path, path.size());
    const int fd = socket(AF_UNIX, SOCK_STREAM, 0);
    ASSERT_EQ(bind(fd, reinterpret_cast<sockaddr*>(&address), sizeof address), 0);
    close(fd);
  }
  ASSERT_EQ(desk_.define().exit, 0);
  Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0);
  EXPECT_THAT(run.err, HasSubstr("so are 57 more"));
  EXPECT_LT(std::ranges::count(run.err, '\n'), 12);
}

TEST_F(OtherMachine, APreviewNamesThePatternThatTakesAFileOut) {
  write_file(desk_.source() + "/odd [1]*.csv", "x");
  ASSERT_EQ(desk_.define().exit, 0);
  ASSERT_EQ(desk_({"preview", "wardens", "--list", desk_.folder / "list.csv"}).exit, 0);
  const std::string list = read_file(desk_.folder / "list.csv");
  const std::string pattern = desk_.source() + "/odd \\[1]\\*.csv";
  EXPECT_THAT(list, HasSubstr("," + pattern + "\r\n"));
  // It does.
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--what-skip", pattern}).exit, 0);
  EXPECT_THAT(desk_({"preview", "wardens", "--why", desk_.source() + "/odd [1]*.csv"}).out,
              HasSubstr("left out"));
  EXPECT_THAT(desk_({"preview", "wardens", "--why", desk_.source() + "/list.csv"}).out, HasSubstr("taken"));
}

}  // namespace
}  // namespace kestrum::test
