// The guard as a technician meets it: a suspect point, its evidence, a verdict; and ways around it that are
// none.
#include <gmock/gmock.h>

#include <chrono>
#include <nlohmann/json.hpp>
#include <thread>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class GuardVerb : public testing::Test {
 protected:
  GuardVerb() {
    for (unsigned i = 0; i < 40; ++i)
      write_file(desk_.source() + "/list-" + std::to_string(i) + ".csv",
                 std::string(900, 'a') + std::to_string(i));
    EXPECT_EQ(desk_.define().exit, 0);
    for (int i = 0; i < 2; ++i) EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  }
  void encrypt(unsigned from, unsigned count) {
    // Written later than a clock tells apart from the run before.
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
    for (unsigned i = from; i < from + count; ++i)
      write_file(desk_.source() + "/list-" + std::to_string(i) + ".csv", noise(i, 950));
  }
  Desk desk_;
};

TEST_F(GuardVerb, ShowsWhatStoodOutAndTakesAPersonsWord) {
  EXPECT_THAT(desk_({"guard", "wardens"}).out, HasSubstr("No point of 'wardens' is suspect."));
  encrypt(0, 10);
  const Ran suspect = desk_({"run", "wardens"});
  EXPECT_EQ(suspect.exit, 10);
  EXPECT_THAT(suspect.err, AllOf(HasSubstr("point 3 is suspect: 10 files do not begin as they did"),
                                 HasSubstr("kestrum guard wardens"), HasSubstr("nobody doubts is 2")));
  EXPECT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 10);
  const Ran shown = desk_({"guard", "wardens"});
  EXPECT_EQ(shown.exit, 10);
  EXPECT_THAT(shown.out, AllOf(HasSubstr("Point 3"), HasSubstr("Point 4"), HasSubstr("list-0.csv"),
                               HasSubstr("--trust drive:4"), HasSubstr("--reject drive:3"),
                               HasSubstr("--at drive:2 --to FOLDER")));
  const auto json = nlohmann::json::parse(desk_({"guard", "wardens", "--json"}).out);
  EXPECT_EQ(json["destinations"][0]["points"][0]["evidence"][0]["what"], "heads-gone");
  EXPECT_EQ(json["destinations"][0]["newest-trusted"]["point"], 2);
  // No name of a file stands where no key is needed.
  EXPECT_THAT(read_file(desk_.set_folder(3) + "/seal.json"), Not(HasSubstr("list-0")));
  const Ran status = desk_({"status"});
  EXPECT_EQ(status.exit, 1);
  EXPECT_THAT(status.out, HasSubstr("2 points are suspect"));
  EXPECT_THAT(desk_({"status", desk_.drive()}).out, HasSubstr("suspect"));
  EXPECT_THAT(desk_({"points", "wardens"}).out, HasSubstr("suspect"));
  EXPECT_THAT(desk_({"prune", "wardens", "--dry"}).out, HasSubstr("a point is suspect"));
  EXPECT_EQ(desk_({"fold", "wardens", "--yes"}).exit, 3);
  // The latest is the newest that nobody doubts; by its number anything comes back.
  const std::string back = desk_.folder / "back";
  const Ran restored = desk_({"restore", "wardens", desk_.source() + "/list-0.csv", "--to", back});
  EXPECT_EQ(restored.exit, 0);
  EXPECT_THAT(restored.err, HasSubstr("is newer, and suspect"));
  EXPECT_EQ(read_file(back + "/list-0.csv"), std::string(900, 'a') + "0");
  EXPECT_EQ(
      desk_({"restore", "wardens", desk_.source() + "/list-0.csv", "--at", "3", "--to", back + "/3"}).exit,
      0);
  EXPECT_EQ(read_file(back + "/3/list-0.csv"), noise(0, 950));

  const Ran rejected = desk_({"guard", "wardens", "--reject", "3"});
  EXPECT_EQ(rejected.exit, 0) << rejected.err;
  EXPECT_THAT(rejected.out,
              AllOf(HasSubstr("Points 3, 4"), HasSubstr("are rejected"), HasSubstr("builds on point 2")));
  EXPECT_EQ(desk_({"guard", "wardens"}).exit, 0);
  EXPECT_THAT(desk_({"guard", "wardens"}).out, HasSubstr("was rejected"));
  EXPECT_EQ(desk_({"drop", "wardens", "4", "--yes"}).exit, 0);
  // It was meant after all.
  EXPECT_THAT(desk_({"guard", "wardens", "--trust", "drive:3"}).out,
              HasSubstr("Point 3 in drive is trusted"));
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk_({"guard", "wardens", "--trust", "1"}).exit, 2);
  EXPECT_EQ(desk_({"guard", "wardens", "--trust", "1", "--reject", "2"}).exit, 2);
  EXPECT_EQ(desk_({"guard", "nobody"}).exit, 2);
  EXPECT_EQ(desk_({"verify", "wardens"}).exit, 0);
}

// Whoever only has the drive and the key sees it too.
TEST_F(GuardVerb, AFullSetIsWeighedAsWell) {
  encrypt(0, 12);
  EXPECT_EQ(desk_({"run", "wardens", "--kind", "full"}).exit, 10);
  const Ran next = desk_({"run", "wardens"});
  EXPECT_EQ(next.exit, 10);
  EXPECT_THAT(next.err, HasSubstr("compared with set 2"));
  EXPECT_THAT(desk_({"browse", desk_.drive(), desk_.source(), "--passphrase", "file:" + desk_.pass()}).err,
              HasSubstr("is newer, and suspect"));
}

// The chain's key is needed to say anything of a point.
TEST_F(GuardVerb, AVerdictNeedsTheKey) {
  encrypt(0, 10);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 10);
  const std::string before = read_file(desk_.set_folder(3) + "/seal.json");
  write_file(desk_.pass(), "puffin under the cliff\n");
  EXPECT_EQ(desk_({"guard", "wardens", "--trust", "3"}).exit, 7);
  EXPECT_EQ(read_file(desk_.set_folder(3) + "/seal.json"), before);
}

}  // namespace
}  // namespace kestrum::test
