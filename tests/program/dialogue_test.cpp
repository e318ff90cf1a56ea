// A job defined by answering questions on a terminal.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::Not;
using Exchanges = std::vector<Program::Exchange>;

class Dialogue : public testing::Test {
 protected:
  Dialogue() {
    for (const char* path :
         {"homes/isla/Documents/list.txt", "homes/isla/Pictures/a.png", "homes/isla/tern.jpg",
          "source/2027.csv", "source/scratch/x", "source/draft.part"})
      write_file(desk_.folder / path, "0123456789");
    write_file(desk_.folder / "accounts",
               "isla:x:1000:1000::" + (desk_.folder / "homes/isla") + ":/bin/bash\n");
    desk_.program.environment["KESTRUM_ACCOUNTS"] = desk_.folder / "accounts";
    desk_.program.environment["KESTRUM_NOW"] = "2027-03-01T10:00:00Z";
    fs::create_directories(desk_.folder / "stick");
  }
  // Every question answered, some of them badly first.
  Exchanges answers() const {
    return {{"Your choice [1]:", "4\n"},
            {"Numbers of the kinds [1 2 6]:", "1 99\n"},
            {"Numbers of the kinds [1 2 6]:", "1,2\n"},
            {"Whose homes", "magnus\n"},
            {"Whose homes", "\n"},
            {"Another folder or file (empty: no more):", "/nowhere\n"},
            {"Another folder or file (empty: no more):", desk_.source() + "\n"},
            {"Another folder or file (empty: no more):", "\n"},
            {"Leave out besides (empty: nothing more):", "*.part\n"},
            {"Leave out besides (empty: nothing more):", "\n"},
            {"A number, or a folder", desk_.drive() + "\n"},
            {"Save onto the same disk all the same [y/N]:", "y\n"},
            {"Encrypt the sets", "\n"},
            {"The passphrase is [1]:", "1\n"},
            {"File [", (desk_.folder / "new.pass") + "\n"},
            {"A new passphrase (not shown):", "tern in the fog\n"},
            {"The same again:", "tern in the frog\n"},
            {"File [", (desk_.folder / "new.pass") + "\n"},
            {"A new passphrase (not shown):", "tern in the fog\n"},
            {"The same again:", "tern in the fog\n"},
            {"Your choice [1]:", "3\n"},
            {"Type: it is written down:", "yes\n"},
            {"Your choice [1]:", "1\n"},
            {"File for its secret part", (desk_.folder / "stick/office") + "\n"},
            {"Keep it there all the same [y/N]:", "n\n"},
            {"Your choice [1]:", "1\n"},
            {"File for its secret part", (desk_.folder / "stick/office") + "\n"},
            {"Keep it there all the same [y/N]:", "y\n"},
            {"Your choice [1]:", "2\n"},
            {"When [daily at 12:30]:", "dayly at 20:30\n"},
            {"When [daily at 12:30]:", "weekdays at 20:30\n"},
            {"And when else (empty: that is all):", "\n"},
            {"When a run was missed", "2\n"},
            {"Your choice [1]:", "2\n"},
            {"How long [90 days]:", "60\n"},
            {"How long [90 days]:", "60 days\n"},
            {"How much of the drive may be used [85%]:", "\n"},
            {"Command before each run", "true\n"},
            {"Command after each run", "\n"},
            {"Mail about problems", "office@skerrypoint.example\n"},
            {"What now [1]:", "1\n"}};
  }
  Desk desk_;
};

TEST_F(Dialogue, AsksInOrderAndSavesWhatWasAnswered) {
  Ran ran = desk_.program.converse({"job", "define", "wardens"}, answers());
  ASSERT_EQ(ran.exit, 0) << ran.out;
  std::string text = read_file(desk_.folder / "home/jobs/wardens.toml");
  EXPECT_EQ(
      text,
      "# wardens\n[what]\npeople = [\"everybody\"]\ncategories = [\"documents\", \"pictures\"]\nfolders = "
      "[\"" +
          desk_.source() + "\"]\nskip = [\"*.part\"]\n[where]\ndestinations = [\"" + desk_.drive() +
          "\"]\nsame-disk = \"accept\"\n[when]\nruns = [\"weekdays at 20:30\"]\nif-missed = "
          "\"skip\"\n[how]\n" +
          "kind = \"differential\"\n[protect]\npassphrase = \"file:" + (desk_.folder / "new.pass") +
          "\"\nrecovery-key = [\"" + (desk_.folder / "home/wardens.pub") +
          "\"]\n[keep]\nage = \"60 days\"\ndrive-limit = \"85%\"\n[around]\nbefore = \"true\"\n[tell]\n" +
          "mail = [\"office@skerrypoint.example\"]\n");
  EXPECT_EQ(read_file(desk_.folder / "new.pass"), "tern in the fog\n");
  EXPECT_EQ(fs::status(desk_.folder / "new.pass").permissions(),
            fs::perms::owner_read | fs::perms::owner_write);
  // The public part stays with the job: the stick may be taken away.
  EXPECT_TRUE(fs::exists(desk_.folder / "stick/office"));
  EXPECT_EQ(read_file(desk_.folder / "home/wardens.pub"), read_file(desk_.folder / "stick/office.pub"));
  EXPECT_THAT(ran.out, HasSubstr("lies on"));
  EXPECT_THAT(ran.out, HasSubstr("Write these nine groups on paper"));
  // Counted while choosing, said in plain words, without the passphrase.
  EXPECT_THAT(ran.out, HasSubstr("all together      3"));
  EXPECT_THAT(ran.out, HasSubstr("nobody called 'magnus'"));
  EXPECT_THAT(ran.out, HasSubstr("There is no /nowhere"));
  EXPECT_THAT(ran.out, HasSubstr("a broken disk would take both"));
  EXPECT_THAT(ran.out, HasSubstr("These are not the words."));
  EXPECT_THAT(ran.out, HasSubstr("did you mean \"daily at 20:30\"?"));
  EXPECT_THAT(ran.out, HasSubstr("did you mean \"60 days\"?"));
  EXPECT_THAT(ran.out, HasSubstr("next: Mon 2027-03-01 20:30"));
  EXPECT_THAT(ran.out, HasSubstr("Not covered"));
  EXPECT_THAT(ran.out, Not(HasSubstr("tern in the fog")));
  // The command it prints says the same.
  std::size_t begin = ran.out.find("kestrum job define wardens \\");
  std::string command = ran.out.substr(begin, ran.out.find("\r\n\r\n", begin) - begin);
  std::erase(command, '\r');
  command.replace(0, std::string("kestrum job define wardens").size(), "job define again");
  std::string env = "env KESTRUM_HOME=" + (desk_.folder / "home") +
                    " KESTRUM_ACCOUNTS=" + (desk_.folder / "accounts") + " ";
  ASSERT_EQ(std::system((env + KESTRUM_BINARY + " " + command + " >/dev/null 2>&1").c_str()), 0) << command;
  std::string again = read_file(desk_.folder / "home/jobs/again.toml");
  EXPECT_EQ(again.substr(again.find('\n')), text.substr(text.find('\n')));
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
}

TEST_F(Dialogue, GivenUpAtAnyQuestionLeavesNoTrace) {
  Snapshot before = take_snapshot(desk_.folder.path());
  Exchanges all = answers();
  for (std::size_t n = 0; n < all.size(); n += 3) {
    Exchanges some(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(n) + 1);
    some.back().answer = n % 2 == 0 ? "\x03" : "\x04";  // Ctrl-C, or the end of the input
    Ran ran = desk_.program.converse({"job", "define", "wardens"}, some);
    EXPECT_EQ(ran.exit, 11) << n << ran.out;
    EXPECT_THAT(ran.out, HasSubstr("nothing was saved"));
    ASSERT_EQ(compare_snapshots(before, take_snapshot(desk_.folder.path())), "") << n;
  }
}

TEST_F(Dialogue, ThereIsAWayBackAndHelp) {
  Exchanges there_and_back{
      {"Your choice [1]:", "<\n"},  // nothing before it
      {"Your choice [1]:", "?\n"},
      {"Your choice [1]:", "1\n"},
      {"Save the files of root [y/N]:", "n\n"},
      {"Your choice [1]:", "1\n"},
      {"Save the files of root [y/N]:", "y\n"},
      {"Another folder", desk_.source() + "\n"},
      {"Another folder", "\n"},
      {"Leave out besides", "<\n"},
      {"Another folder", "<\n"},  // the folder is forgotten with it
      {"Your choice [1]:", "5\n"},
      {"A folder or file to save:", desk_.source() + "\n"},
      {"Another folder", "\n"},
      {"Leave out besides", "\n"},
      {"A number, or a folder", desk_.drive() + "\n"},
      {"Save onto the same disk", "y\n"},
      {"Encrypt the sets", "n\n"},
      {"Your choice [1]:", "<\n"},  // over the questions that were not asked
      {"Encrypt the sets", "?\n"},
      {"Encrypt the sets", "n\n"},
      {"Your choice [1]:", "\n"},
      {"When [", "by hand\n"},
      {"Your choice [1]:", "4\n"},
      {"How much of the drive", "\n"},
      {"Command before", "\n"},
      {"Command after", "\n"},
      {"Mail about", "\n"},
      {"What now [1]:", "3\n"},
  };
  Ran ran = desk_.program.converse({"job", "define", "wardens"}, there_and_back);
  ASSERT_EQ(ran.exit, 0) << ran.out;
  EXPECT_THAT(ran.out, HasSubstr("This is the first question."));
  EXPECT_THAT(ran.out, HasSubstr("those of root, in "));
  EXPECT_THAT(ran.out, HasSubstr("its standard folders and its file types"));
  EXPECT_THAT(ran.out, HasSubstr("Whoever finds or steals the drive"));
  EXPECT_THAT(ran.out, HasSubstr("point 1, full"));
  EXPECT_EQ(read_file(desk_.folder / "home/jobs/wardens.toml"),
            "# wardens\n[what]\nfolders = [\"" + desk_.source() + "\"]\n[where]\ndestinations = [\"" +
                desk_.drive() +
                "\"]\nsame-disk = \"accept\"\n[how]\nkind = \"incremental\"\n[protect]\nencryption = "
                "\"none\"\n[keep]\n"
                "drive-limit = \"85%\"\n");
}

TEST_F(Dialogue, WarnsOfWhatItKnowsToBeWrong) {
  if (geteuid() != 0) GTEST_SKIP() << "needs root, to mount drives";
  fs::create_directories(desk_.folder / "empty");
  write_file(desk_.source() + "/large", std::string(3 << 20, 'x'));
  write_file(desk_.folder / "short.pass", "tern\n");
  chmod((desk_.folder / "short.pass").c_str(), 0600);
  Mounted small("tmpfs", desk_.folder / "small", "-t tmpfs -o size=2m");
  ASSERT_TRUE(small.good());
  Ran ran = desk_.program.converse({"job", "define", "wardens"},
                                   {{"Your choice [1]:", "5\n"},
                                    {"A folder or file to save:", (desk_.folder / "empty") + "\n"},
                                    {"Another folder", "\n"},
                                    {"Leave out besides", "\n"},
                                    {"Go on with nothing to save [y/N]:", "n\n"},
                                    {"A folder or file to save:", desk_.source() + "\n"},
                                    {"Another folder", "\n"},
                                    {"Leave out besides", "\n"},
                                    {"A number, or a folder", (desk_.folder / "small") + "\n"},
                                    {"Take it all the same [y/N]:", "y\n"},  // in memory
                                    {"Take it all the same [y/N]:", "n\n"},  // too small
                                    {"A number, or a folder", desk_.drive() + "\n"},
                                    {"Save onto the same disk", "y\n"},
                                    {"Encrypt the sets", "y\n"},
                                    {"The passphrase is [1]:", "1\n"},
                                    {"File [", (desk_.folder / "short.pass") + "\n"},
                                    {"Take it all the same [y/N]:", "n\n"},
                                    {"File [", (desk_.folder / "new.pass") + "\n"},
                                    {"A new passphrase (not shown):", "short\n"},
                                    {"Take it all the same [y/N]:", "y\n"},
                                    {"The same again:", "short\n"},
                                    {"Your choice [1]:", "\x03"}});
  EXPECT_EQ(ran.exit, 11) << ran.out;
  EXPECT_THAT(ran.out, HasSubstr("there is no file in what you have chosen"));
  EXPECT_THAT(ran.out, HasSubstr("3.0 MiB are chosen (before compression), and 2.0 MiB are free there"));
  EXPECT_THAT(ran.out, HasSubstr("fewer than twelve characters"));
  // Without questions too.
  Ran defined =
      desk_({"job", "define", "wardens", "--what-folders", desk_.source(), "--where-destinations",
             desk_.drive(), "--same-disk", "--protect-passphrase", "file:" + (desk_.folder / "short.pass")});
  EXPECT_EQ(defined.exit, 0);
  EXPECT_THAT(defined.err, HasSubstr("fewer than twelve characters"));
}

TEST_F(Dialogue, WithoutATerminalOrWithOptionsNothingIsAsked) {
  Ran ran = desk_({"job", "define", "wardens"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_THAT(ran.err, HasSubstr("does not say what to save"));
  Ran there = desk_.program.converse({"job", "define", "a/b"}, {});
  EXPECT_EQ(there.exit, 2) << there.out;
  desk_.define();
  EXPECT_THAT(desk_.program.converse({"job", "define", "wardens"}, {}).out, HasSubstr("already"));
}

}  // namespace
}  // namespace kestrum::test
