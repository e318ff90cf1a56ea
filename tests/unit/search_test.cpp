// Searches over many points against a plain reading of each list.
#include <gtest/gtest.h>

#include <random>
#include <set>

#include "engine/version_search.hpp"
#include "support/recipe.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

TEST(PointSearch, FindsWhatAPlainReadingFinds) {
  Workbench bench;
  for (int i = 0; i < 4000; ++i)
    write_file(bench.source() + "/year-" + std::to_string(i % 40) + "/Count " +
                   std::to_string(i * 7919 % 10007) + ".csv",
               std::to_string(i));
  bench.run_good();
  std::mt19937 random(11);
  for (int point = 0; point < 3; ++point) {
    for (int i = 0; i < 30; ++i)
      write_file(bench.source() + "/year-" + std::to_string(random() % 40) + "/new " +
                     std::to_string(random() % 900),
                 "x");
    bench.run_good();
  }
  std::vector<LookSession> sessions;
  sessions.push_back(bench.subject());
  std::vector<std::pair<Sequence, Entry>> all;
  for (Sequence number = 1; number <= 4; ++number) {
    OpenPoint point(sessions[0], {PointWish::By::number, number, {}});
    CatalogReader reader = point.catalog();
    while (std::optional<Entry> entry = reader.next()) all.emplace_back(number, std::move(*entry));
  }
  ASSERT_GT(all.size(), 16000u);
  const std::vector<NameQuery> queries{{.pattern = "count 77"},
                                       {.pattern = "NEW 1"},
                                       {.pattern = "year-3/"},
                                       {.pattern = "*7.csv"},
                                       {.pattern = "year-1?/*9"},
                                       {.pattern = "nt 99[0-4].", .regex = true},
                                       {.pattern = "not there"},
                                       {.pattern = ""},
                                       {.pattern = "*", .type = EntryType::folder},
                                       {.pattern = "count 1", .at_least = 4}};
  for (const NameQuery& query : queries) {
    SCOPED_TRACE(query.pattern);
    const NameMatcher matcher(query);
    std::set<std::pair<TreePath, Sequence>> expected, found;
    for (const auto& [number, entry] : all) {
      if (matcher.fits(entry)) expected.emplace(entry.path, number);
    }
    RunControl control;
    const VersionSearch search =
        find_versions(sessions, query, {}, control, [&](const std::vector<FoundVersion>& versions) {
          for (const FoundVersion& version : versions) {
            for (const Sequence point : version.points) found.emplace(version.entry.path, point);
          }
        });
    EXPECT_EQ(found, expected);
    EXPECT_TRUE(search.unread.empty());
  }
}

}  // namespace
}  // namespace kestrum::test
