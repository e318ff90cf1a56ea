// The deduplication table and the spooled index.
#include <gtest/gtest.h>

#include <random>

#include "archive/index_spool.hpp"
#include "archive/name_table.hpp"
#include "base/error.hpp"
#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

ChunkName name_of(std::uint64_t n) {
  ChunkName name;
  ByteWriter seed;
  seed.u64(n);
  name.bytes = digest(seed.view());
  return name;
}

TEST(NameTable, FindsWhatWasPutAndNothingElse) {
  NameTable table;
  for (std::uint64_t i = 0; i < 100000; ++i) table.put(name_of(i), static_cast<std::uint32_t>(i % 1000));
  EXPECT_EQ(table.size(), 100000u);
  for (std::uint64_t i = 0; i < 100000; ++i) ASSERT_EQ(table.find(name_of(i)), i % 1000);
  for (std::uint64_t i = 100000; i < 200000; ++i) ASSERT_FALSE(table.find(name_of(i)));
  table.put(name_of(5), 77);
  EXPECT_EQ(table.find(name_of(5)), 77u);
  EXPECT_EQ(table.size(), 100000u);
}

TEST(NameTable, CostsAtMost24BytesAChunk) {
  NameTable table;
  for (std::uint64_t i = 0; i < 600000; ++i) {
    table.put(name_of(i), 0);
    if (i > 50000 && i % 50000 == 0) {
      EXPECT_LE(table.memory_bytes(), 24 * table.size()) << i;
    }
  }
}

// What says how many there are may be an index that somebody made up.
TEST(NameTable, MakesRoomForNoMoreThanIsSensible) {
  NameTable table;
  table.expect(100000);
  EXPECT_LE(table.memory_bytes(), 24u * 100000);
  const std::size_t room = table.memory_bytes();
  EXPECT_GE(room, 16u * 100000);
  for (std::uint64_t i = 0; i < 100000; ++i) table.put(name_of(i), 1);
  EXPECT_LE(table.memory_bytes(), room + room / 20) << "hardly any shard had to grow";
  table.expect(std::size_t{1} << 40);
  EXPECT_LE(table.memory_bytes(), 100u << 20);
  for (std::uint64_t i = 0; i < 100000; ++i) ASSERT_EQ(table.find(name_of(i)), 1u);
}

TEST(IndexSpool, MergesRunsInOrderAndFindsInAll) {
  TempFolder folder;
  for (std::size_t limit : {1u, 7u, 1000u, 100000u}) {
    IndexSpool spool(folder.path(), limit);
    constexpr std::uint64_t count = 5000;
    for (std::uint64_t i = 0; i < count; ++i) {
      spool.expect(name_of(i));
      EXPECT_TRUE(spool.holds(name_of(i)));
      if (i % 5 == 4) {
        std::vector<IndexRecord> records;
        for (std::uint64_t j = i - 4; j <= i; ++j)
          records.push_back({name_of(j), 1, {j * 100 + 96, 100}, static_cast<std::uint32_t>(j), 5});
        spool.place(records);
      }
    }
    for (std::uint64_t i = 0; i < count; i += 37) EXPECT_TRUE(spool.holds(name_of(i)));
    EXPECT_FALSE(spool.holds(name_of(count + 1)));
    std::vector<IndexRecord> merged;
    spool.merge([&](const IndexRecord& record) { merged.push_back(record); });
    ASSERT_EQ(merged.size(), count);
    EXPECT_TRUE(std::is_sorted(merged.begin(), merged.end(),
                               [](const auto& a, const auto& b) { return a.name < b.name; }));
    for (const IndexRecord& record : merged) EXPECT_EQ(record.name, name_of(record.offset));
  }
  EXPECT_TRUE(std::filesystem::is_empty(folder.path())) << "the scratch file has no name";
}

TEST(IndexSpool, AChunkThatWasNeverPlacedIsAnError) {
  TempFolder folder;
  IndexSpool spool(folder.path());
  spool.expect(name_of(1));
  EXPECT_THROW(spool.merge([](const IndexRecord&) {}), Error);
}

TEST(IndexRecords, AreFoundInPagesByBinarySearch) {
  std::vector<ChunkName> names;
  for (std::uint64_t i = 0; i < 300; ++i) names.push_back(name_of(i));
  std::sort(names.begin(), names.end());
  ByteWriter page;
  for (std::uint32_t i = 0; i < 300; ++i) write_record(page, {names[i], i, {96, 50}, 0, 1});
  for (std::uint32_t i = 0; i < 300; ++i) EXPECT_EQ(find_record(page.view(), names[i])->slot, i);
  EXPECT_FALSE(find_record(page.view(), name_of(999)));
  EXPECT_FALSE(find_record({}, names[0]));
}

}  // namespace
}  // namespace kestrum::test
