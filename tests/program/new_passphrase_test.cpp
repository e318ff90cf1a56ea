// A passphrase that opens nothing of what is there: told early, meant or not, and what becomes of the points
// that only the one of before opens.
#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class NewPassphrase : public testing::Test {
 protected:
  void points(int count, std::vector<std::string> more = {"--keep-points", "100 points"}) {
    Ran defined = desk_.define(std::move(more));
    ASSERT_EQ(defined.exit, 0) << defined.err;
    for (int i = 0; i < count; ++i) ASSERT_EQ(day({}).exit, 0);
  }
  Ran day(std::vector<std::string> more) {
    ++made_;
    desk_.program.environment["KESTRUM_NOW"] =
        "2027-03-" + std::string(made_ < 10 ? "0" : "") + std::to_string(made_) + "T20:30:00Z";
    write_file(desk_.source() + "/list", "day " + std::to_string(made_));
    more.insert(more.begin(), {"run", "wardens"});
    return desk_(more);
  }
  void another_passphrase() {
    fs::copy_file(desk_.pass(), old(), fs::copy_options::overwrite_existing);
    write_file(desk_.pass(), "gannet at noon\n");
  }
  std::string old() { return desk_.folder / "old-pass"; }
  std::string there() {
    std::string out;
    for (int i = 1; i <= made_ + 5; ++i) {
      if (!desk_.set_folder(i).empty()) out += (out.empty() ? "" : " ") + std::to_string(i);
    }
    return out;
  }
  Desk desk_;
  int made_ = 0;
};

TEST_F(NewPassphrase, IsRefusedUntilItIsMeant) {
  points(2);
  another_passphrase();
  Ran edited = desk_({"job", "edit", "wardens", "--keep-points", "99 points"});
  EXPECT_EQ(edited.exit, 0);
  EXPECT_TRUE(holds(edited.err, "the passphrase does not open") && holds(edited.err, "--new-passphrase"))
      << edited.err;
  Ran refused = day({});
  EXPECT_EQ(refused.exit, 7);
  EXPECT_TRUE(holds(refused.err, "kestrum run wardens --new-passphrase")) << refused.err;
  EXPECT_EQ(there(), "1 2");
  Ran meant = day({"--new-passphrase"});
  EXPECT_EQ(meant.exit, 0) << meant.err;
  EXPECT_TRUE(holds(desk_({"history", "wardens", "--run", "4"}).out, "the passphrase is a new one"))
      << meant.out;
  EXPECT_EQ(there(), "1 2 3");
  Ran after = day({});
  EXPECT_EQ(after.exit, 0) << after.err;
  EXPECT_TRUE(holds(desk_({"points", "wardens"}).out, "┌ full")) << "the new chain goes on";
  Ran well = desk_({"job", "edit", "wardens", "--keep-points", "98 points"});
  EXPECT_FALSE(holds(well.err, "passphrase")) << well.err;
}

TEST_F(NewPassphrase, PointsOfBeforeAreShownAndOpenWithTheOldOne) {
  points(2);
  another_passphrase();
  ASSERT_EQ(day({"--new-passphrase"}).exit, 0);
  Ran points = desk_({"points", "wardens"});
  EXPECT_EQ(points.exit, 0) << points.out;
  EXPECT_TRUE(holds(points.out, "earlier passphrase")) << points.out;
  EXPECT_TRUE(holds(points.out, "Points 1, 2 (")) << points.out;
  EXPECT_TRUE(holds(desk_({"points", "wardens", "--json"}).out, "\"earlier-passphrase\": true"));
  EXPECT_EQ(desk_({"status", "wardens"}).exit, 0);
  const std::string to = desk_.folder / "back";
  std::vector<std::string> restore{"restore",  "wardens", desk_.source() + "/list", "--at", "1", "--to", to,
                                   "--layout", "flat"};
  Ran locked = desk_(restore);
  EXPECT_EQ(locked.exit, 7);
  EXPECT_TRUE(holds(locked.err, "point 1 opens with the passphrase of before only")) << locked.err;
  restore.insert(restore.end(), {"--passphrase", "file:" + old()});
  Ran restored = desk_(restore);
  EXPECT_EQ(restored.exit, 0) << restored.err;
  EXPECT_EQ(read_file(to + "/list"), "day 1");
  // A seal is written with its chain's key.
  Ran kept = desk_({"keep", "wardens", "1", "--because", "x"});
  EXPECT_EQ(kept.exit, 7);
  EXPECT_TRUE(holds(kept.err, "the passphrase at hand does not open point 1")) << kept.err;
  Ran dropped = desk_({"drop", "wardens", "1", "--yes"});
  EXPECT_EQ(dropped.exit, 7) << dropped.err;
  Ran folded = desk_({"fold", "wardens", "--last", "2", "--beyond-rules", "--yes"});
  EXPECT_EQ(folded.exit, 7) << folded.err;
  EXPECT_EQ(there(), "1 2 3");
  Ran verified = desk_({"verify", "wardens"});
  EXPECT_EQ(verified.exit, 0) << verified.err;
  EXPECT_TRUE(holds(verified.out, "NOT CHECKED\n  the passphrase does not open")) << verified.out;
  EXPECT_TRUE(holds(verified.out, "): good\n")) << verified.out;
  // Where nobody knows of it, what was not checked is not good.
  Ran by_path = desk_({"verify", desk_.drive(), "--passphrase", "file:" + old()});
  EXPECT_EQ(by_path.exit, 7) << by_path.out << by_path.err;
  EXPECT_TRUE(holds(by_path.out, "): good\n")) << by_path.out;
  EXPECT_EQ(desk_({"verify", "wardens", "--at", "1"}).exit, 7);
}

// The chain of before goes on, and nothing looks as if the drive had been set back.
TEST_F(NewPassphrase, TheOldOneMayComeBack) {
  points(2);
  another_passphrase();
  ASSERT_EQ(day({"--new-passphrase"}).exit, 0);
  fs::copy_file(old(), desk_.pass(), fs::copy_options::overwrite_existing);
  EXPECT_EQ(day({}).exit, 7);
  ASSERT_EQ(day({"--new-passphrase"}).exit, 0);
  Ran points = desk_({"points", "wardens"});
  EXPECT_EQ(points.exit, 0) << points.out;
  EXPECT_TRUE(holds(points.out, "Point 3 (")) << points.out;
  EXPECT_FALSE(holds(points.out, "Points 1, 2 (")) << points.out;
  Ran after = day({});
  EXPECT_EQ(after.exit, 0) << after.err;
  EXPECT_EQ(desk_({"verify", "wardens"}).exit, 0);
}

TEST_F(NewPassphrase, PointsOfBeforeGoByTheRules) {
  points(2, {"--keep-points", "3 points", "--how-kind", "full"});
  another_passphrase();
  ASSERT_EQ(day({"--new-passphrase"}).exit, 0);
  EXPECT_EQ(there(), "1 2 3");
  ASSERT_EQ(day({}).exit, 0);
  EXPECT_EQ(there(), "2 3 4");
  ASSERT_EQ(day({}).exit, 0);
  EXPECT_EQ(there(), "3 4 5");
  EXPECT_FALSE(holds(desk_({"points", "wardens"}).out, "earlier passphrase"));
}

// What is damaged does not take the place of what only lacks its key.
TEST_F(NewPassphrase, TheLastGoodOneOfBeforeStays) {
  points(2, {"--keep-points", "1 points", "--keep-at-least", "1 points", "--how-kind", "full"});
  another_passphrase();
  ASSERT_EQ(there(), "2");
  ASSERT_EQ(day({"--new-passphrase"}).exit, 0);
  EXPECT_EQ(there(), "3");
}

TEST_F(NewPassphrase, WithoutEncryptionWhatIsEncryptedGoesByTheRulesToo) {
  points(2, {"--keep-points", "3 points", "--how-kind", "full"});
  ASSERT_EQ(
      desk_({"job", "edit", "wardens", "--protect-encryption", "none", "--usual", "protect-passphrase"}).exit,
      0);
  for (int i = 0; i < 2; ++i) ASSERT_EQ(day({}).exit, 0);
  EXPECT_EQ(there(), "2 3 4");
}

}  // namespace
}  // namespace kestrum::test
