// Catalogs side by side: everything that each holds comes, in order, and what they share is read once.
#include "archive/catalog_merge.hpp"

#include <gtest/gtest.h>

#include <set>

#include "archive/catalog_reader.hpp"
#include "archive/catalog_writer.hpp"
#include "support/memory_chunks.hpp"

namespace kestrum::test {
namespace {

using Tree = std::map<TreePath, Entry>;

Bytes encoded(const Entry& entry) {
  ByteWriter out;
  write_entry(out, entry, "");
  return out.take();
}

class Merges : public testing::Test {
 protected:
  CatalogTop write(const Tree& tree) {
    CatalogWriter writer(chunks_, chunks_.key);
    for (const auto& [path, entry] : tree) writer.add(entry);
    return writer.finish();
  }
  Tree grown(int count) {
    Tree tree;
    for (int i = 0; i < count; ++i) {
      std::string path = "/srv";
      for (unsigned level = random_() % 3; level > 0; --level) path += "/d" + std::to_string(random_() % 20);
      Entry entry = make_entry(path + "/n" + std::to_string(random_() % 5000), engine_);
      entry.path = *TreePath::parse(entry.path.absolute());
      tree.insert_or_assign(entry.path, entry);
    }
    return tree;
  }
  Tree changed(Tree tree, int steps) {
    for (int i = 0; i < steps; ++i) {
      auto place = std::next(tree.begin(), static_cast<std::ptrdiff_t>(random_() % tree.size()));
      if (random_() % 3 == 0 && tree.size() > 1) {
        tree.erase(place);
      } else {
        place->second = make_entry(place->first.absolute(), engine_);
      }
    }
    return tree;
  }
  // Path and number of the catalog, to the entry's bytes.
  using Found = std::map<std::pair<TreePath, std::size_t>, Bytes>;
  Found merged(const std::vector<CatalogTop>& tops, CatalogMerge::Ways ways, std::uint64_t* pages = nullptr) {
    std::vector<CatalogMerge::Source> sources;
    for (const CatalogTop& top : tops) sources.push_back({&chunks_, top, 0});
    CatalogMerge merge(sources, std::move(ways));
    Found found;
    std::optional<TreePath> last;
    while (merge.next()) {
      const TreePath path = *TreePath::from_joined(merge.joined());
      EXPECT_TRUE(!last || *last < path);
      last = path;
      for (const CatalogMerge::Side& side : merge.sides()) {
        const Entry entry = side.scan->entry();
        EXPECT_EQ(entry.path, path);
        EXPECT_EQ(side.scan->head().type, entry.type);
        EXPECT_EQ(side.scan->head().size, entry.size);
        EXPECT_EQ(side.scan->head().modified, entry.modified);
        for (const std::size_t source : *side.sources)
          EXPECT_TRUE(found.try_emplace({path, source}, encoded(entry)).second);
      }
    }
    if (pages != nullptr) *pages = merge.pages_read();
    return found;
  }
  static Found expected(const std::vector<Tree>& trees, const TreePath& within, const TreePath& from) {
    Found found;
    for (std::size_t i = 0; i < trees.size(); ++i) {
      for (const auto& [path, entry] : trees[i]) {
        if (path.is_within(within) && !(path < from)) found[{path, i}] = encoded(entry);
      }
    }
    return found;
  }
  unsigned random_() { return static_cast<unsigned>(engine_()); }
  std::mt19937 engine_{17};
  MemoryChunks chunks_;
};

TEST_F(Merges, EverythingComesInOrderWhateverIsShared) {
  for (int round = 0; round < 5; ++round) {
    std::vector<Tree> trees{grown(round == 0 ? 3 : 2500)};
    for (int i = 0; i < 5; ++i)
      trees.push_back(i == 3 ? grown(500) : changed(trees.back(), static_cast<int>(random_() % 40)));
    std::vector<CatalogTop> tops;
    for (const Tree& tree : trees) tops.push_back(write(tree));
    EXPECT_EQ(merged(tops, {}), expected(trees, {}, {}));
    for (int i = 0; i < 12; ++i) {
      const Tree& tree = trees[random_() % trees.size()];
      TreePath within = std::next(tree.begin(), static_cast<std::ptrdiff_t>(random_() % tree.size()))->first;
      for (unsigned up = random_() % 3; up > 0; --up) within = within.parent();
      const TreePath from =
          std::next(tree.begin(), static_cast<std::ptrdiff_t>(random_() % tree.size()))->first;
      EXPECT_EQ(merged(tops, {.within = within}), expected(trees, within, within));
      EXPECT_EQ(merged(tops, {.from = from}), expected(trees, {}, from));
    }
  }
}

TEST_F(Merges, PagesInCommonAreReadOnce) {
  const Tree tree = grown(20000);
  std::vector<CatalogTop> tops{write(tree)};
  std::uint64_t one = 0, many = 0, path = 0;
  merged(tops, {}, &one);
  for (int i = 0; i < 30; ++i) tops.push_back(write(i % 2 == 0 ? tree : changed(tree, 1)));
  merged(tops, {}, &many);
  // Of each changed one what leads to the change, and that.
  EXPECT_LT(many, one + 15 * 5);
  const TreePath wanted = std::next(tree.begin(), 9000)->first;
  const Merges::Found found = merged(tops, {.within = wanted}, &path);
  EXPECT_GE(found.size(), 20u);
  EXPECT_LT(path, 31 * 3u);
}

TEST_F(Merges, PagesThatAreSiftedOutHoldNothingThatFits) {
  std::vector<Tree> trees{grown(3000)};
  for (int i = 0; i < 3; ++i) trees.push_back(changed(trees.back(), 60));
  std::vector<CatalogTop> tops;
  for (const Tree& tree : trees) tops.push_back(write(tree));
  for (const char* wanted : {"n17", "d3/n4", "n4999", "nothing of that kind"}) {
    const auto fits = [&](const std::string& joined) { return joined.find(wanted) != std::string::npos; };
    const auto only_fitting = [&](Found found) {
      std::erase_if(found, [&](const auto& one) { return !fits(one.first.first.joined()); });
      return found;
    };
    const Sieve sieve = [&](ByteView page) { return has_path(page, fits); };
    EXPECT_EQ(only_fitting(merged(tops, {.sieve = sieve})), only_fitting(expected(trees, {}, {}))) << wanted;
  }
  EXPECT_GT(chunks_.sifted_out, 50);
  // What is no page of entries, or none that reads, is for whoever looks closer.
  const auto never = [](const std::string&) { return false; };
  EXPECT_TRUE(has_path({}, never));
  EXPECT_TRUE(has_path(as_bytes("\1\1nonsense"), never));
  EXPECT_TRUE(has_path(as_bytes(std::string("\1\0\5nonsense", 11)), never));
}

TEST_F(Merges, WhatTwoShareIsPassedOver) {
  const Tree before = grown(20000);
  const Tree now = changed(before, 3);
  const CatalogTop old_top = write(before), new_top = write(now);
  std::uint64_t pages = 0;
  EXPECT_TRUE(merged({old_top, old_top}, {.pass_shared = true}, &pages).empty());
  EXPECT_EQ(pages, 0u);
  const Found found = merged({new_top, old_top}, {.pass_shared = true}, &pages);
  EXPECT_LT(pages, 2 * 3 * 4u);
  // Whatever differs is there, on the sides that have it.
  for (const auto& [place, bytes] : expected({now, before}, {}, {})) {
    const auto& [path, source] = place;
    const Tree& other = source == 0 ? before : now;
    const auto twin = other.find(path);
    if (twin != other.end() && encoded(twin->second) == bytes) continue;
    const auto told = found.find(place);
    ASSERT_TRUE(told != found.end()) << path.absolute();
    EXPECT_EQ(told->second, bytes);
  }
}

TEST_F(Merges, AGapIsToldAndTheRestComes) {
  const Tree tree = grown(8000), later = changed(tree, 5);
  const std::vector<Tree> trees{tree, later};
  const std::vector<CatalogTop> tops{write(tree), write(later)};
  const Found whole = expected(trees, {}, {});
  std::vector<ChunkName> names;
  for (const auto& [name, bytes] : chunks_.chunks) names.push_back(name);
  for (int round = 0; round < 40; ++round) {
    const ChunkName lost = names[random_() % names.size()];
    const Bytes kept = chunks_.chunks.at(lost);
    chunks_.chunks.erase(lost);
    std::vector<CatalogMerge::Gap> gaps;
    const Found found = merged(tops, {.gap = [&](CatalogMerge::Gap gap) { gaps.push_back(std::move(gap)); }});
    chunks_.chunks[lost] = kept;
    EXPECT_FALSE(gaps.empty());
    for (const auto& [place, bytes] : whole) {
      const bool in_gap = std::any_of(gaps.begin(), gaps.end(), [&](const CatalogMerge::Gap& gap) {
        return std::count(gap.sources.begin(), gap.sources.end(), place.second) > 0 &&
               !(place.first < gap.from) && (!gap.until || place.first < *gap.until);
      });
      EXPECT_EQ(found.contains(place), !in_gap) << place.first.absolute() << " " << place.second;
    }
  }
  chunks_.chunks.erase(names.front());
  EXPECT_THROW(
      {
        for (const ChunkName& name : names) chunks_.chunks.erase(name);
        merged(tops, {});
      },
      Error);
}

// Whatever bytes stand in a page: entries or damage, never a crash.
TEST_F(Merges, APageOfNonsenseIsDamage) {
  CatalogWriter writer(chunks_, chunks_.key);
  for (const auto& [path, entry] : grown(40)) writer.add(entry);
  const Bytes page = chunks_.fetch(writer.finish().page);
  for (int round = 0; round < 20000; ++round) {
    Bytes bad = page;
    for (unsigned n = 1 + random_() % 3; n > 0; --n)
      bad[random_() % bad.size()] = static_cast<std::uint8_t>(random_());
    if (random_() % 4 == 0) bad.resize(random_() % bad.size());
    try {
      PageScan scan(std::move(bad));
      while (scan.next()) {
        try {
          scan.entry();
        } catch (const Error& error) {
          EXPECT_EQ(error.kind(), ErrorKind::damage);
        }
      }
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::damage);
    }
  }
}

TEST_F(Merges, SumsOfAFolderAreThoseOfWhatIsInIt) {
  const Tree tree = grown(9000);
  CatalogReader reader(chunks_, write(tree));
  std::set<TreePath> folders{TreePath()};
  for (const auto& [path, entry] : tree) folders.insert(path.parent());
  for (const TreePath& folder : folders) {
    std::uint64_t entries = 0, bytes = 0;
    for (const auto& [path, entry] : tree) {
      if (path == folder || !path.is_within(folder)) continue;
      ++entries;
      if (entry.has_content()) bytes += entry.size;
    }
    const CatalogReader::Below sum = reader.below(folder);
    EXPECT_EQ(sum.entries, entries) << folder.absolute();
    EXPECT_EQ(sum.bytes, bytes) << folder.absolute();
  }
}

}  // namespace
}  // namespace kestrum::test
