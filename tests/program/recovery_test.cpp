// Recovery keys as a technician meets them: made, named in a job, and used when the passphrase is gone.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;

TEST(Recovery, OpensTheChainsThatBeganWithIt) {
  Desk desk;
  write_file(desk.source() + "/list.csv", "SP001100,Turnstone\n");
  std::string office = desk.folder / "office";
  Ran created = desk({"recovery", "create", office});
  ASSERT_EQ(created.exit, 0) << created.err;
  struct stat status {};
  ASSERT_EQ(stat(office.c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0600U);
  // Not over one that is there: it may be the only copy.
  std::string secret = read_file(office);
  EXPECT_EQ(desk({"recovery", "create", office}).exit, 2);
  EXPECT_EQ(read_file(office), secret);

  // A chain that began without it is not opened by it, and the run says so.
  ASSERT_EQ(desk.define().exit, 0);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk({"browse", desk.drive(), "/", "--recovery-key", office}).exit, 7);
  ASSERT_EQ(desk({"job", "remove", "wardens"}).exit, 0);
  ASSERT_EQ(desk.define({"--protect-recovery-key", office + ".pub"}).exit, 0);
  Ran old_chain = desk({"run", "wardens"});
  EXPECT_EQ(old_chain.exit, 0) << old_chain.err;
  EXPECT_THAT(old_chain.err, HasSubstr("run wardens --kind full"));

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
  ASSERT_EQ(desk({"recovery", "create", desk.folder / "other"}).exit, 0);
  Ran wrong = desk({"browse", desk.drive(), "/", "--recovery-key", desk.folder / "other"});
  EXPECT_EQ(wrong.exit, 7);
  EXPECT_THAT(wrong.err, HasSubstr("does not open"));
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
