// Recovery keys as a technician meets them: made, named in a job, and used when the passphrase is gone.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;
using testing::Not;

TEST(Recovery, OpensTheChainsThatBeganWithIt) {
  Desk desk;
  write_file(desk.source() + "/list.csv", "SP001100,Turnstone\n");
  std::string office = desk.folder / "office";
  // Not on the machine's own disk, unless that is meant.
  Ran near = desk({"recovery", "create", office});
  EXPECT_EQ(near.exit, 2);
  EXPECT_THAT(near.err, HasSubstr("lies on the disk of this machine"));
  EXPECT_FALSE(std::filesystem::exists(office));
  Ran created = desk({"recovery", "create", office, "--same-disk"});
  ASSERT_EQ(created.exit, 0) << created.err;
  struct stat status {};
  ASSERT_EQ(stat(office.c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0600U);
  // Not over one that is there: it may be the only copy.
  std::string secret = read_file(office);
  EXPECT_EQ(desk({"recovery", "create", office, "--same-disk"}).exit, 2);
  EXPECT_EQ(read_file(office), secret);

  // A chain that began without it is not opened by it, and the run says so.
  ASSERT_EQ(desk.define().exit, 0);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk({"browse", desk.drive(), "/", "--recovery-key", office}).exit, 7);
  // Not even by the job's name, where the passphrase is at hand: only that key counts.
  EXPECT_EQ(desk({"browse", "wardens", "/", "--recovery-key", office}).exit, 7);
  EXPECT_EQ(
      desk({"browse", "wardens", "/", "--recovery-key", office, "--passphrase", "file:" + desk.pass()}).exit,
      2);
  ASSERT_EQ(desk({"job", "remove", "wardens"}).exit, 0);
  ASSERT_EQ(desk.define({"--protect-recovery-key", office + ".pub"}).exit, 0);
  Ran old_chain = desk({"run", "wardens"});
  EXPECT_EQ(old_chain.exit, 0) << old_chain.err;
  EXPECT_THAT(old_chain.err, HasSubstr("kestrum recovery add wardens"));

  Ran full = desk({"run", "wardens", "--kind", "full"});
  EXPECT_EQ(full.exit, 0) << full.err;
  write_file(desk.source() + "/list.csv", "SP001100,Turnstone\nSP001101,Redwing\n");
  EXPECT_EQ(desk({"run", "wardens"}).exit, 0);

  // Only the drive and the recovery key are left.
  std::filesystem::remove(desk.pass());
  desk.program.environment["KESTRUM_HOME"] = desk.folder / "none";
  Ran back = desk({"restore", desk.drive(), desk.source() + "/list.csv", "--recovery-key", office, "--to",
                   desk.folder / "back"});
  EXPECT_EQ(back.exit, 0) << back.err;
  EXPECT_EQ(read_file(desk.folder / "back/list.csv"), "SP001100,Turnstone\nSP001101,Redwing\n");
  EXPECT_EQ(desk({"browse", desk.drive(), "/", "--at", "3", "--recovery-key", office}).exit, 0);
  EXPECT_EQ(desk({"browse", desk.drive(), "/", "--at", "1", "--recovery-key", office}).exit, 7);

  // Typed from paper: blanks and capitals do not matter, a slip is found.
  std::string line = secret.substr(secret.find("kestrum-recovery"));
  std::string typed = line;
  std::size_t group = typed.find(' ') + 9;
  typed.insert(group, "\n  ");
  write_file(desk.folder / "typed", typed);
  chmod((desk.folder / "typed").c_str(), 0600);
  EXPECT_EQ(desk({"browse", desk.drive(), "/", "--recovery-key", desk.folder / "typed"}).exit, 0);
  for (std::size_t at = line.find(' ') + 1; at < line.size(); ++at) {
    if (line[at] == ' ' || line[at] == '\n') continue;
    std::string slip = line;
    slip[at] = slip[at] == '0' ? '1' : '0';
    write_file(desk.folder / "typed", slip);
    Ran refused = desk({"browse", desk.drive(), "/", "--recovery-key", desk.folder / "typed"});
    ASSERT_EQ(refused.exit, 7) << at;
    if (at > 100) break;
  }
  Ran other_part = desk({"browse", desk.drive(), "/", "--recovery-key", office + ".pub"});
  EXPECT_EQ(other_part.exit, 7);
  EXPECT_THAT(other_part.err, HasSubstr("is the other part"));
  chmod(office.c_str(), 0644);
  EXPECT_EQ(desk({"browse", desk.drive(), "/", "--recovery-key", office}).exit, 7);

  // Another key opens nothing.
  ASSERT_EQ(desk({"recovery", "create", desk.folder / "other", "--same-disk"}).exit, 0);
  Ran wrong = desk({"browse", desk.drive(), "/", "--recovery-key", desk.folder / "other"});
  EXPECT_EQ(wrong.exit, 7);
  EXPECT_THAT(wrong.err, HasSubstr("does not open"));
}

TEST(Recovery, AnIncrementNeedsNoPublicPart) {
  Desk desk;
  write_file(desk.source() + "/list.csv", "SP001100,Turnstone\n");
  const std::string office = desk.folder / "office";
  ASSERT_EQ(desk({"recovery", "create", office, "--same-disk"}).exit, 0);
  ASSERT_EQ(desk.define({"--protect-recovery-key", office + ".pub"}).exit, 0);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  // The stick is taken away.
  std::filesystem::remove(office + ".pub");
  Ran increment = desk({"run", "wardens"});
  EXPECT_EQ(increment.exit, 0) << increment.err;
  EXPECT_THAT(increment.err, HasSubstr("the next full set will need it"));
  EXPECT_EQ(desk({"run", "wardens", "--kind", "full"}).exit, 7);
  EXPECT_EQ(desk({"browse", desk.drive(), "/", "--recovery-key", office}).exit, 0);
}

TEST(Recovery, TheSecretPartIsRefusedOnADestination) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount drives";
  Desk desk;
  write_file(desk.source() + "/list.csv", "SP001100,Turnstone\n");
  // Its image in memory, so that it is not on the machine's own disk.
  Mounted memory("tmpfs", desk.folder / "memory", "-t tmpfs -o size=64m");
  ASSERT_TRUE(memory.good());
  make_ext4_image(desk.folder / "memory/stick.img", 16, "stick");
  LoopDevice device(desk.folder / "memory/stick.img");
  ASSERT_FALSE(device.path().empty());
  const std::string stick = desk.folder / "stick";
  Mounted mounted(device.path(), stick);
  ASSERT_TRUE(mounted.good());
  // A stick of its own is where it belongs.
  EXPECT_EQ(desk({"recovery", "create", stick + "/office"}).exit, 0);
  std::filesystem::create_directories(stick + "/copies");
  ASSERT_EQ(desk({"job", "define", "near", "--what-folders", desk.source(), "--where-destinations",
                  stick + "/copies", "--protect-passphrase", "file:" + desk.pass()})
                .exit,
            0);
  // Before the first run the job names it; afterwards the drive itself does, to any machine.
  Ran named = desk({"recovery", "create", stick + "/second"});
  EXPECT_EQ(named.exit, 2);
  EXPECT_THAT(named.err, HasSubstr("lies on a destination"));
  ASSERT_EQ(desk({"run", "near"}).exit, 0);
  desk.program.environment["KESTRUM_HOME"] = desk.folder / "other-home";
  EXPECT_THAT(desk({"recovery", "create", stick + "/second"}).err, HasSubstr("lies on a destination"));
  EXPECT_EQ(desk({"recovery", "create", stick + "/second", "--same-disk"}).exit, 0);
}

TEST(Recovery, IsTypedInFromPaper) {
  Desk desk;
  write_file(desk.source() + "/list.csv", "SP001100,Turnstone\n");
  const std::string office = desk.folder / "office";
  Ran created = desk.program.run_on_terminal({"recovery", "create", office, "--same-disk"}, "", "");
  ASSERT_EQ(created.exit, 0) << created.out;
  ASSERT_EQ(desk.define({"--protect-recovery-key", office + ".pub"}).exit, 0);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  // What was shown is what stands in the file, and only a terminal is shown it.
  const std::string secret = read_file(office);
  std::vector<std::string> groups;
  for (std::size_t at = created.out.find("1: ") + 1; groups.size() < 9; at = created.out.find(": ", at + 1)) {
    groups.push_back(created.out.substr(at + 2, 8));
    EXPECT_THAT(secret, HasSubstr(" " + groups.back()));
  }
  EXPECT_THAT(desk({"recovery", "create", office + "2", "--same-disk"}).out, Not(HasSubstr("1: ")));
  std::filesystem::remove(desk.pass());
  const std::vector<std::string> words{"browse", desk.drive(), "/", "--recovery-key", "ask"};
  std::vector<Program::Exchange> typed{{"group 1 of 9:", "what\n"},
                                       {"group 1 of 9:", groups[0] + " " + groups[1] + "\n"},
                                       {"group 3 of 9:", groups[3] + "\n"},
                                       {"group 4 of 9:", "<\n"}};
  for (int i = 2; i < 9; ++i)
    typed.push_back({"group " + std::to_string(i + 1) + " of 9:", groups[i] + "\n"});
  Ran opened = desk.program.converse(words, typed);
  EXPECT_EQ(opened.exit, 0) << opened.out;
  EXPECT_THAT(opened.out, HasSubstr("'what' is no group"));
  std::swap(typed[4].answer, typed[5].answer);
  Ran mistyped = desk.program.converse(words, typed);
  EXPECT_EQ(mistyped.exit, 7);
  EXPECT_THAT(mistyped.out, HasSubstr("mistyped"));
  EXPECT_EQ(desk(words).exit, 7);
}

TEST(Recovery, AMissingPublicPartIsToldBeforeAnythingIsWritten) {
  Desk desk;
  write_file(desk.source() + "/list.csv", "x");
  Ran defined = desk.define({"--protect-recovery-key", desk.folder / "none.pub"});
  EXPECT_THAT(defined.err, HasSubstr("none.pub"));
  Ran ran = desk({"run", "wardens"});
  EXPECT_EQ(ran.exit, 7);
  EXPECT_EQ(desk.set_folder(1), "");
}

}  // namespace
}  // namespace kestrum::test
