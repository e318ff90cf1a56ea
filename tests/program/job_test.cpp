// Jobs changed, copied, switched off and on, as a technician does it.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;

class Jobs : public testing::Test {
 protected:
  Jobs() {
    write_file(desk_.source() + "/a", "a");
    EXPECT_EQ(desk_.define().exit, 0);
  }
  std::string file() const { return desk_.folder / "home/jobs/wardens.toml"; }
  // An editor that replaces the file's text.
  void editor(const std::string& text) {
    write_file(desk_.folder / "wanted.toml", text);
    desk_.program.environment["EDITOR"] = "cp '" + (desk_.folder / "wanted.toml") + "'";
  }
  Desk desk_;
};

TEST_F(Jobs, EditWithOptionsSaysWhatItMeans) {
  Ran ran = desk_({"job", "edit", "wardens", "--protect-encryption", "none", "--usual", "protect-passphrase",
                   "--how-compression", "small"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("[protect] encryption: the next run begins a new chain with a full set"));
  EXPECT_THAT(ran.out, HasSubstr("[how] compression: new data is compressed that way"));
  Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0);
  EXPECT_EQ(desk_({"job", "edit", "wardens", "--how-compression", "small"}).out,
            "Nothing was changed in wardens.\n");
  Ran wrong = desk_({"job", "edit", "wardens", "--how-compression", "smal"});
  EXPECT_EQ(wrong.exit, 2);
  EXPECT_THAT(wrong.err, HasSubstr("did you mean 'small'?"));
  EXPECT_THAT(desk_({"job", "edit", "wardens", "--usual", "what-skp"}).err,
              HasSubstr("did you mean what-skip?"));
  EXPECT_EQ(desk_({"job", "edit", "nobody", "--how-kind", "full"}).exit, 2);
}

TEST_F(Jobs, EditInAnEditorTakesOnlyWhatIsValid) {
  std::string before = read_file(file());
  editor(before + "[how]\nkind = \"ful\"\n");
  Ran bad = desk_({"job", "edit", "wardens"});
  EXPECT_EQ(bad.exit, 2);
  EXPECT_THAT(bad.err, HasSubstr("did you mean 'full'?"));
  EXPECT_THAT(bad.err, HasSubstr("your version is kept in "));
  EXPECT_EQ(read_file(file()), before);
  editor(before + "# kept\n[how]\nkind = \"full\"\n");
  Ran good = desk_({"job", "edit", "wardens"});
  EXPECT_EQ(good.exit, 0) << good.err;
  EXPECT_THAT(good.out, HasSubstr("[how] kind: the next set is of that kind"));
  EXPECT_THAT(read_file(file()), HasSubstr("# kept\n"));
  desk_.program.environment["EDITOR"] = "false";
  EXPECT_EQ(desk_({"job", "edit", "wardens"}).exit, 3);
  // A file that does not read can be mended, and the drive is known as before.
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  write_file(file(), "[what\n");
  EXPECT_EQ(desk_({"job", "edit", "wardens", "--how-kind", "full"}).exit, 2);
  editor(before);
  EXPECT_EQ(desk_({"job", "edit", "wardens"}).exit, 0);
  EXPECT_EQ(read_file(file()), before);
  fs::rename(desk_.drive(), desk_.folder / "away");
  fs::create_directories(desk_.drive());
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 5);  // an empty mount point is not filled
}

TEST_F(Jobs, AnotherDestinationBeginsAnewAndTheOldPointsStay) {
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  fs::create_directories(desk_.folder / "drive-2");
  Ran ran = desk_({"job", "edit", "wardens", "--where-destinations", desk_.folder / "drive-2"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("a drive that is new to the job begins with a full set"));
  Ran again = desk_({"run", "wardens"});
  EXPECT_EQ(again.exit, 0) << again.err;
  EXPECT_THAT(again.out, HasSubstr("full"));
  EXPECT_EQ(desk_({"points", desk_.drive(), "--passphrase", "file:" + desk_.pass()}).exit, 0);
  EXPECT_THAT(desk_({"restore", desk_.drive(), desk_.source(), "--passphrase", "file:" + desk_.pass(), "--to",
                     desk_.folder / "back"})
                  .out,
              HasSubstr("1 file"));
}

TEST_F(Jobs, TheSameJobOnAnotherMachineWithAnotherDrive) {
  write_file(desk_.folder / "wardens.toml",
             "# for all wardens\n[what]\nfolders = [\"" + desk_.source() +
                 "\"] # lists\n[where]\ndestinations = [\"/media/none\"]\n[protect]\n" +
                 "encryption = \"none\"\n");
  Ran ran = desk_({"job", "define", "here", "--from", desk_.folder / "wardens.toml", "--where-destinations",
                   desk_.drive(), "--same-disk"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_EQ(read_file(desk_.folder / "home/jobs/here.toml"),
            "# for all wardens\n[what]\nfolders = [\"" + desk_.source() +
                "\"] # lists\n[where]\ndestinations = [\"" + desk_.drive() +
                "\"]\nsame-disk = \"accept\"\n[protect]\nencryption = \"none\"\n");
  EXPECT_EQ(desk_({"run", "here"}).exit, 0);
  EXPECT_EQ(desk_({"job", "define", "there", "--from", desk_.folder / "wardens.toml", "--where-destinations",
                   desk_.drive()})
                .exit,
            2);
}

TEST_F(Jobs, CopyEnableDisable) {
  EXPECT_EQ(desk_({"job", "copy", "wardens", "visitors"}).exit, 0);
  EXPECT_EQ(read_file(desk_.folder / "home/jobs/visitors.toml"), read_file(file()));
  EXPECT_EQ(desk_({"job", "copy", "wardens", "visitors"}).exit, 2);
  EXPECT_EQ(desk_({"job", "copy", "wardens", "a/b"}).exit, 2);
  std::string before = read_file(file());
  EXPECT_EQ(desk_({"job", "disable", "wardens"}).exit, 0);
  EXPECT_THAT(desk_({"job", "disable", "wardens"}).out, HasSubstr("already"));
  Ran all = desk_({"run", "--all"});
  EXPECT_THAT(all.out, HasSubstr("visitors: done"));
  EXPECT_EQ(all.out.find("wardens: done"), std::string::npos);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk_({"job", "disable", "visitors"}).exit, 0);
  EXPECT_EQ(desk_({"run", "--all"}).exit, 2);
  EXPECT_EQ(desk_({"job", "enable", "wardens"}).exit, 0);
  EXPECT_EQ(read_file(file()), before + "[when]\n");
}

TEST_F(Jobs, StatusSaysWhenThereIsNoGoodPointForTooLong) {
  desk_.program.environment["KESTRUM_NOW"] = "2027-03-01T10:00:00Z";
  EXPECT_EQ(desk_({"job", "edit", "wardens", "--when-warn-after", "2 days"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk_({"status"}).out.find("no good point"), std::string::npos);
  desk_.program.environment["KESTRUM_NOW"] = "2027-03-03T10:01:00Z";
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("no good point for 2 days"));
}

}  // namespace
}  // namespace kestrum::test
