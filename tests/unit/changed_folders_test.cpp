// What a watch tells of folders, and which parts of a catalog it may touch.
#include "source/changed_folders.hpp"

#include <gtest/gtest.h>

#include <random>

namespace kestrum::test {
namespace {

using How = FolderChange::How;

TreePath tree_path(const std::string& path) {
  return *TreePath::parse(path);
}

TEST(ChangedFolders, WhatMayHoldSomethingTouchedIsNeverPassedOver) {
  std::mt19937 random(21);
  std::vector<TreePath> all;
  for (const std::string a : {"a", "a.b", "b", "c"}) {
    all.push_back(tree_path("/s/" + a));
    for (const std::string b : {"x", "x-", "y", "z"}) {
      all.push_back(tree_path("/s/" + a + "/" + b));
      for (const std::string c : {"1", "2", "3"}) all.push_back(tree_path("/s/" + a + "/" + b + "/" + c));
    }
  }
  std::sort(all.begin(), all.end());
  std::size_t passed = 0;
  for (int round = 0; round < 3000; ++round) {
    ChangedFolders changed;
    for (auto n = 1 + random() % 3; n > 0; --n) switch (random() % 4) {
        case 0:
          changed.add(all[random() % all.size()], {How::whole, {}});
          break;
        case 1:
          changed.add(all[random() % all.size()], {How::listed, {}});
          break;
        default: {
          const TreePath& one = all[random() % all.size()];
          changed.add(one.parent(), FolderChange::of_name(one.name()));
        }
      }
    const std::size_t from = random() % (all.size() - 1), to = from + 1 + random() % (all.size() - 1 - from);
    bool any = false;
    for (std::size_t i = from; i < to; ++i) any = any || changed.touches(all[i]);
    const bool may = changed.may_touch(all[from], all[to]);
    EXPECT_TRUE(may || !any) << all[from].joined() << " to " << all[to].joined();
    passed += may ? 0 : 1;
  }
  EXPECT_GT(passed, 300u);  // and it is worth asking
}

TEST(ChangedFolders, NamesLeadToWhatLiesDeeper) {
  ChangedFolders changed;
  changed.add(tree_path("/s/a/b/c"), {});
  changed.add(tree_path("/s/a/b"), FolderChange::of_name("a file"));
  changed.add(tree_path("/s/a-"), {How::whole, {}});
  EXPECT_EQ(changed.names_in(tree_path("/s")), (std::vector<std::string>{"a", "a-"}));
  EXPECT_EQ(changed.names_in(tree_path("/s/a/b")), (std::vector<std::string>{"a file", "c"}));
  EXPECT_TRUE(changed.names_in(tree_path("/s/a/b/c")).empty());
  EXPECT_TRUE(changed.touches(tree_path("/s/a/b/a file")));
  EXPECT_FALSE(changed.touches(tree_path("/s/a/b/another")));
  EXPECT_TRUE(changed.any_below(tree_path("/s/a")));
  EXPECT_FALSE(changed.any_below(tree_path("/s/a-")));
  EXPECT_TRUE(changed.touches(tree_path("/s/a-/deep/down")));
  EXPECT_FALSE(changed.touches(tree_path("/s/a/b/c/d/e")));
}

TEST(ChangedFolders, ManyNamesAndATagMeanTheWholeFolder) {
  FolderChange change;
  for (int i = 0; i < 256; ++i) change.add_name(std::to_string(i));
  EXPECT_EQ(change.how, How::named);
  change.add_name("one more");
  EXPECT_EQ(change.how, How::listed);
  EXPECT_TRUE(change.names.empty());
  change.add_name("CACHEDIR.TAG");
  EXPECT_EQ(change.how, How::whole);
  EXPECT_EQ(FolderChange::of_name("CACHEDIR.TAG").how, How::whole);
  change.add({How::whole, {}});
  change.add(FolderChange::of_name("x"));
  EXPECT_EQ(change.how, How::whole);
}

}  // namespace
}  // namespace kestrum::test
