// Points that people keep by name or give up: over every rule, with the drive, whatever happens meanwhile.
#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class PointStanding : public testing::Test {
 protected:
  void points(int count, std::vector<std::string> more = {"--keep-points", "100 points"},
              bool encrypted = true) {
    desk_.program.environment["KESTRUM_NOW"] = "2027-03-01T20:00:00Z";
    Ran defined = desk_.define(std::move(more), encrypted);
    ASSERT_EQ(defined.exit, 0) << defined.err;
    for (int i = 1; i <= count; ++i) day();
  }
  void day() {
    ++made_;
    desk_.program.environment["KESTRUM_NOW"] = "2027-03-0" + std::to_string(made_) + "T20:30:00Z";
    write_file(desk_.source() + "/list-" + std::to_string(made_), "day " + std::to_string(made_));
    Ran ran = desk_({"run", "wardens", "--quiet"});
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  // "1 2 4"
  std::string there() {
    std::string out;
    for (int i = 1; i <= made_ + 5; ++i) {
      if (!desk_.set_folder(i).empty()) out += (out.empty() ? "" : " ") + std::to_string(i);
    }
    return out;
  }
  std::string restored(int point, const std::string& name) {
    std::string to = desk_.folder / ("back-" + std::to_string(++restores_));
    Ran ran = desk_({"restore", "wardens", desk_.source() + "/" + name, "--at", std::to_string(point), "--to",
                     to, "--layout", "flat"});
    return ran.exit == 0 ? read_file(to + "/" + name) : ran.err;
  }

  Desk desk_;
  int made_ = 0, restores_ = 0;
};

TEST_F(PointStanding, WhatIsKeptStaysWhateverTheRules) {
  points(4, {"--keep-points", "1 points", "--keep-at-least", "1 points", "--how-kind", "full"});
  EXPECT_EQ(there(), "4");
  Ran kept = desk_({"keep", "wardens", "4", "--because", "before the move"});
  EXPECT_EQ(kept.exit, 0) << kept.err;
  EXPECT_TRUE(holds(kept.out, "is kept by name: before the move")) << kept.out;
  day();
  day();
  EXPECT_EQ(there(), "4 6");
  EXPECT_TRUE(holds(desk_({"points", "wardens"}).out, "Point 4: kept by name: before the move"));
  // It goes where the drive goes: no home is needed to know it.
  EXPECT_TRUE(holds(desk_({"points", desk_.drive()}).out, "kept by name: before the move"));
  EXPECT_TRUE(holds(desk_({"keep", "wardens"}).out, "before the move"));
  EXPECT_EQ(desk_({"keep", "wardens", "4", "--no-longer"}).exit, 0);
  EXPECT_TRUE(holds(desk_({"keep", "wardens"}).out, "No point of 'wardens' is kept"));
  day();
  EXPECT_EQ(there(), "7");
}

TEST_F(PointStanding, AFoldDoesNotTakeItAndCarriesItOn) {
  points(4);
  EXPECT_EQ(desk_({"keep", "wardens", "2", "--because", "x"}).exit, 0);
  Ran over = desk_({"fold", "wardens", "--last", "3", "--beyond-rules", "--yes"});
  EXPECT_EQ(over.exit, 2);
  EXPECT_TRUE(holds(over.err, "point 2 is kept by name: x")) << over.err;
  EXPECT_EQ(desk_({"fold", "wardens", "--last", "2", "--beyond-rules", "--yes"}).exit, 0);
  EXPECT_EQ(there(), "2 3 4");
  EXPECT_TRUE(holds(desk_({"points", "wardens"}).out, "Point 2: kept by name: x")) << "lost by the fold";
}

TEST_F(PointStanding, FoldingByHandIsHeldByTheRules) {
  points(4, {"--keep-points", "3 points"});
  Ran held = desk_({"fold", "wardens", "--last", "3"});
  EXPECT_EQ(held.exit, 2);
  EXPECT_TRUE(holds(held.err, "points 1, 2 would go") || holds(held.err, "points 1 to 2 would go"))
      << held.err;
  EXPECT_TRUE(holds(held.err, "[keep] points = 3 points wants 1 point")) << held.err;
  EXPECT_TRUE(holds(held.err, "--beyond-rules")) << held.err;
  EXPECT_EQ(there(), "1 2 3 4");
  EXPECT_EQ(desk_({"fold", "wardens", "--last", "2"}).exit, 0) << "no rule wants point 1";
  EXPECT_EQ(there(), "2 3 4");
  Ran nobody = desk_({"fold", "wardens", "--last", "4", "--beyond-rules"});
  EXPECT_EQ(nobody.exit, 2) << "nobody there to say yes";
  EXPECT_TRUE(holds(nobody.err, "--yes")) << nobody.err;
  EXPECT_EQ(there(), "2 3 4");
}

TEST_F(PointStanding, TheFloorHoldsAFoldByHand) {
  points(3, {"--keep-age", "30 days", "--keep-at-least", "3 points"});
  // Long afterwards no rule wants them, but the floor does.
  desk_.program.environment["KESTRUM_NOW"] = "2027-04-20T20:30:00Z";
  Ran held = desk_({"fold", "wardens", "--last", "2"});
  EXPECT_EQ(held.exit, 2);
  EXPECT_TRUE(holds(held.err, "2 good points would be left, and [keep] at-least = 3 points")) << held.err;
  EXPECT_EQ(there(), "1 2 3");
}

TEST_F(PointStanding, WhatIsGivenUpGoesAndTheOthersStay) {
  points(5);
  Ran look = desk_({"drop", "wardens", "2", "--dry"});
  EXPECT_EQ(look.exit, 0);
  EXPECT_TRUE(holds(look.out, "moves into point 3")) << look.out;
  EXPECT_TRUE(holds(look.out, "The keep rules want it: points = 100 points")) << look.out;
  EXPECT_EQ(there(), "1 2 3 4 5");
  EXPECT_EQ(desk_({"drop", "wardens", "2"}).exit, 2) << "nobody there to say yes";
  EXPECT_EQ(desk_({"drop", "wardens", "2", "--yes"}).exit, 0);
  EXPECT_EQ(there(), "1 3 4 5");
  EXPECT_EQ(restored(3, "list-2"), "day 2");
  // The newest: the drive is not taken for one in an older state afterwards.
  EXPECT_EQ(desk_({"drop", "wardens", "5", "--yes"}).exit, 0);
  EXPECT_EQ(there(), "1 3 4");
  EXPECT_TRUE(desk_({"points", "wardens"}).exit == 0);
  day();
  EXPECT_EQ(there(), "1 3 4 6");
  EXPECT_EQ(restored(6, "list-5"), "day 5");
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "all"}).exit, 0);
}

TEST_F(PointStanding, TheLastGoodPointAndWhatIsKeptAreNotGivenUp) {
  points(2);
  EXPECT_EQ(desk_({"keep", "wardens", "1", "--because", "x"}).exit, 0);
  Ran kept = desk_({"drop", "wardens", "1", "--yes"});
  EXPECT_EQ(kept.exit, 2);
  EXPECT_TRUE(holds(kept.err, "kept by name: x")) << kept.err;
  EXPECT_TRUE(holds(kept.err, "--no-longer")) << kept.err;
  EXPECT_EQ(desk_({"drop", "wardens", "2", "--yes"}).exit, 0);
  EXPECT_EQ(desk_({"keep", "wardens", "1", "--no-longer"}).exit, 0);
  Ran last = desk_({"drop", "wardens", "1", "--yes"});
  EXPECT_EQ(last.exit, 3);
  EXPECT_TRUE(holds(last.err, "the only good one")) << last.err;
  EXPECT_EQ(there(), "1");
}

TEST_F(PointStanding, ADamagedFullThatOthersNeedWaitsUntilTheyAreGone) {
  points(3, {"--keep-points", "100 points"}, false);
  std::string volume;
  for (const auto& entry : fs::directory_iterator(desk_.set_folder(1))) {
    if (entry.path().extension() == ".kvol") volume = entry.path().string();
  }
  std::string bytes = read_file(volume);
  bytes[bytes.size() / 2] ^= 1;
  write_file(volume, bytes);
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "all"}).exit, 4);
  write_file(desk_.source() + "/more", "more");
  desk_({"run", "wardens", "--kind", "full", "--quiet"});
  Ran given = desk_({"drop", "wardens", "1", "--yes"});
  EXPECT_EQ(given.exit, 0) << given.err;
  EXPECT_TRUE(holds(given.out, "is given up, and its room comes free later")) << given.out;
  EXPECT_TRUE(holds(desk_({"points", "wardens"}).out, "Point 1: given up by name"));
  EXPECT_EQ(desk_({"browse", "wardens", "--at", "2027-03-01"}).exit, 2) << "by date, it is no point";
  EXPECT_NE(desk_({"browse", "wardens", "--at", "1"}).exit, 2) << "by its number it can be looked at";
  EXPECT_EQ(desk_({"drop", "wardens", "1", "--no-longer"}).exit, 0);
  EXPECT_FALSE(holds(desk_({"points", "wardens"}).out, "given up"));
}

TEST_F(PointStanding, ASealThatWasHalfWrittenAnewIsRead) {
  points(2);
  std::string seal = desk_.set_folder(1) + "/seal.json", copy = desk_.set_folder(1) + "/seal-copy.json";
  std::string before = read_file(copy);
  EXPECT_EQ(desk_({"keep", "wardens", "1", "--because", "x"}).exit, 0);
  EXPECT_EQ(read_file(seal), read_file(copy));
  write_file(copy, before);  // killed between the two
  Ran points = desk_({"points", "wardens"});
  EXPECT_EQ(points.exit, 0) << points.out;
  EXPECT_TRUE(holds(points.out, "kept by name: x")) << points.out;
  EXPECT_EQ(desk_({"verify", "wardens", "--depth", "all"}).exit, 0);
  EXPECT_EQ(desk_({"keep", "wardens", "1", "--because", "y"}).exit, 0);
  EXPECT_EQ(read_file(seal), read_file(copy)) << "the copy is behind";
}

TEST_F(PointStanding, ItAsksBefore) {
  points(3);
  Ran no = desk_.program.run_on_terminal({"drop", "wardens", "2"}, "[y/N]:", "n\n");
  EXPECT_EQ(no.exit, 11) << no.out;
  EXPECT_TRUE(holds(no.out, "moves into point 3")) << no.out;
  EXPECT_TRUE(holds(no.out, "nothing was changed")) << no.out;
  Ran enter =
      desk_.program.run_on_terminal({"fold", "wardens", "--last", "3", "--beyond-rules"}, "[y/N]:", "\n");
  EXPECT_EQ(enter.exit, 11) << enter.out;
  EXPECT_EQ(there(), "1 2 3");
  Ran yes = desk_.program.run_on_terminal({"drop", "wardens", "2"}, "[y/N]:", "y\n");
  EXPECT_EQ(yes.exit, 0) << yes.out;
  EXPECT_EQ(there(), "1 3");
}

TEST_F(PointStanding, AnUnusualShareIsSaidBefore) {
  points(6, {"--keep-points", "100 points", "--how-kind", "full"});
  write_file(desk_.source() + "/list-7", "day 7");
  EXPECT_FALSE(holds(desk_({"run", "wardens"}).err, "this takes"));
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--keep-points", "2 points"}).exit, 0);
  Ran ran = desk_({"run", "wardens"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_TRUE(holds(ran.err, "this takes 6 of 8 points, 2 points will be left")) << ran.err;
  EXPECT_LT(ran.err.find("this takes"), ran.err.find("removed set")) << "before";
}

TEST_F(PointStanding, NonsenseIsRefused) {
  points(1);
  EXPECT_EQ(desk_({"keep", "wardens", "7", "--because", "x"}).exit, 2);
  EXPECT_EQ(desk_({"keep", "wardens", "elephant"}).exit, 2);
  EXPECT_EQ(desk_({"keep", "wardens", "1", "--because", std::string(300, 'x')}).exit, 2);
  EXPECT_EQ(desk_({"keep", "wardens", "1", "--because", "x", "--no-longer"}).exit, 2);
  EXPECT_EQ(desk_({"keep", "wardens", "--no-longer"}).exit, 2);
  EXPECT_EQ(desk_({"drop", "wardens"}).exit, 2);
  EXPECT_EQ(desk_({"fold", "wardens", "--beyond-rules"}).exit, 2);
  // Not UTF-8, and control characters: kept, shown harmlessly.
  EXPECT_EQ(desk_({"keep", "wardens", "1", "--because", "a\xff\x1b[31mb"}).exit, 0);
  EXPECT_FALSE(holds(desk_({"points", "wardens"}).out, "\x1b[31m"));
  EXPECT_FALSE(holds(desk_({"points", "wardens", "--json"}).out, "\x1b[31m"));
}

}  // namespace
}  // namespace kestrum::test
