// What is picked and taken out again, against a plain reading of the marks.
#include "engine/path_choice.hpp"

#include <gtest/gtest.h>

#include <random>

#include "support/recipe.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

TEST(PathChoice, AsThePlainReadingSays) {
  Workbench bench;
  TreeMaker maker(bench.source(), 5);
  maker.grow(150);
  bench.run_good();
  LookSession subject = bench.subject();
  OpenPoint point(subject, {});
  std::vector<Entry> entries;
  CatalogReader reader = point.catalog();
  while (std::optional<Entry> entry = reader.next()) entries.push_back(std::move(*entry));
  ASSERT_GT(entries.size(), 100u);
  std::mt19937 random(3);
  unsigned taken_out = 0;
  for (int round = 0; round < 60; ++round) {
    PathChoice choice;
    std::map<std::size_t, bool> held;  // plainly: each entry on its own
    for (int marks = 0; marks < 8; ++marks) {
      const TreePath path = random() % 10 == 0 ? TreePath{} : entries[random() % entries.size()].path;
      const bool take = random() % 2 == 0;
      if (take) {
        choice.take(path);
      } else {
        choice.leave_out(path);
      }
      for (std::size_t i = 0; i < entries.size(); ++i) {
        if (entries[i].path.is_within(path)) held[i] = take;
      }
    }
    CatalogReader::Below plain;
    for (std::size_t i = 0; i < entries.size(); ++i) {
      EXPECT_EQ(choice.holds(entries[i].path), held[i]) << entries[i].path.absolute();
      bool differs = false;
      for (std::size_t j = i + 1; j < entries.size() && entries[j].path.is_within(entries[i].path); ++j)
        differs = differs || held[j] != held[i];
      EXPECT_EQ(choice.differs_below(entries[i].path), differs) << entries[i].path.absolute();
      if (!held[i] || entries[i].path.is_root()) continue;
      ++plain.entries;
      plain.bytes += entries[i].has_content() ? entries[i].size : 0;
    }
    const CatalogReader::Below sum = chosen_sum(point.catalog(), choice);
    EXPECT_EQ(sum.bytes, plain.bytes);
    EXPECT_EQ(sum.entries, plain.entries);
    // What the marks say as two lists is the same again.
    const PathChoice again(choice.taken(), choice.left_out());
    EXPECT_EQ(again.marks(), choice.marks());
    taken_out += choice.takes_out() ? 1 : 0;
  }
  EXPECT_GT(taken_out, 10u);
}

}  // namespace
}  // namespace kestrum::test
