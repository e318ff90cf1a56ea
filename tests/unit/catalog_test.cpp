// Catalogs and content lists: any entries round trip in any number, unchanged stretches give the same pages,
// a page that lies is damage.
#include <gtest/gtest.h>

#include "archive/catalog_reader.hpp"
#include "archive/catalog_writer.hpp"
#include "archive/content_list.hpp"
#include "support/memory_chunks.hpp"

namespace kestrum::test {
namespace {

Bytes encoded(const Entry& entry) {
  ByteWriter out;
  write_entry(out, entry, "");
  return out.take();
}

TEST(Entries, RoundTrip) {
  std::mt19937 random(8);
  for (int i = 0; i < 2000; ++i) {
    Entry entry = make_entry("/srv/" + std::to_string(random()), random);
    Bytes bytes = encoded(entry);
    ByteReader in(bytes);
    Entry back = read_entry(in, "");
    EXPECT_TRUE(in.at_end());
    EXPECT_EQ(encoded(back), bytes);
    EXPECT_EQ(back.path, entry.path);
    EXPECT_EQ(back.modified, entry.modified);
    EXPECT_EQ(back.content, entry.content);
    EXPECT_EQ(back.attributes, entry.attributes);
  }
}

// Whatever bytes stand in an authentic page, reading them ends in an entry or in damage, never in a crash.
TEST(Entries, NonsenseIsDamage) {
  std::mt19937 random(9);
  for (int i = 0; i < 20000; ++i) {
    Bytes bytes = encoded(make_entry("/srv/list", random));
    for (auto n = 1 + random() % 3; n > 0; --n)
      bytes[random() % bytes.size()] = static_cast<std::uint8_t>(random());
    if (random() % 4 == 0) bytes.resize(random() % bytes.size());
    ByteReader in(bytes);
    try {
      read_entry(in, "");
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::damage);
    }
  }
}

struct Built {
  CatalogTop top;
  std::vector<Entry> entries;
};

Built build(MemoryChunks& chunks, int folders, int files, unsigned skip = 0) {
  Built built;
  std::mt19937 random(10);
  CatalogWriter writer(chunks, chunks.key);
  for (int i = 0; i < folders; ++i) {
    char name[32];
    std::snprintf(name, sizeof name, "/srv/d%05d", i);
    for (int j = -1; j < files; ++j) {
      char file[32];
      std::snprintf(file, sizeof file, "/f%05d", j);
      Entry entry = make_entry(j < 0 ? name : name + std::string(file), random);
      if (j < 0) {
        entry.type = EntryType::folder;
        entry.content.clear();
        entry.size = 0;
      }
      if (skip != 0 && built.entries.size() + 1 == skip) {
        skip = 0;
        continue;
      }
      writer.add(entry);
      built.entries.push_back(entry);
    }
  }
  built.top = writer.finish();
  return built;
}

TEST(Catalog, AnyNumberOfEntriesRoundTrips) {
  for (auto [folders, files] :
       std::vector<std::pair<int, int>>{{0, 0}, {1, 0}, {1, 30}, {10, 100}, {100, 100}}) {
    MemoryChunks chunks;
    Built built = build(chunks, folders, files);
    CatalogReader reader(chunks, built.top);
    for (const Entry& expected : built.entries) {
      std::optional<Entry> entry = reader.next();
      ASSERT_TRUE(entry);
      ASSERT_EQ(encoded(*entry), encoded(expected));
    }
    EXPECT_FALSE(reader.next());
    for (const auto& [name, page] : chunks.chunks) EXPECT_LE(page.size(), limits::page);
  }
}

TEST(Catalog, OnePathCostsAFewPages) {
  MemoryChunks chunks;
  Built built = build(chunks, 100, 200);
  CatalogReader reader(chunks, built.top);
  for (std::size_t i = 0; i < built.entries.size(); i += 997) {
    chunks.fetched = 0;
    std::optional<Entry> found = reader.find(built.entries[i].path);
    ASSERT_TRUE(found);
    EXPECT_EQ(encoded(*found), encoded(built.entries[i]));
    EXPECT_LE(chunks.fetched, 4);
  }
  EXPECT_FALSE(reader.find(*TreePath::parse("/srv/d00042/nothing")));
  EXPECT_FALSE(reader.find(*TreePath::parse("/a")));
  EXPECT_FALSE(reader.find(*TreePath::parse("/zzz")));
}

TEST(Catalog, ChildrenAreListedWithoutWhatIsBelowThem) {
  MemoryChunks chunks;
  Built built = build(chunks, 300, 60);
  CatalogReader reader(chunks, built.top);
  std::size_t children = 0;
  reader.each_child(*TreePath::parse("/srv"), [&](const Entry& entry) {
    EXPECT_EQ(entry.type, EntryType::folder);
    ++children;
  });
  EXPECT_EQ(children, 300u);
  children = 0;
  reader.each_child(*TreePath::parse("/srv/d00007"), [&](const Entry&) { ++children; });
  EXPECT_EQ(children, 60u);
}

TEST(Catalog, UnchangedStretchesGiveTheSamePages) {
  MemoryChunks chunks;
  // Pages are cut by content and key: with one key in some hundreds a second page is cut anew.
  chunks.key = SecretKey(Bytes(32, 7));
  build(chunks, 100, 100);
  std::size_t all = chunks.added;
  chunks.added = 0;
  build(chunks, 100, 100);
  EXPECT_EQ(chunks.added, 0u);
  build(chunks, 100, 100, 5000);  // one entry less
  EXPECT_LT(chunks.added, all / 20);
}

// Whole pages from another catalog: the same list gives the same catalog, and nothing is fetched for it but
// what says where they are.
TEST(Catalog, PagesAreTakenOverWithoutReadingThem) {
  MemoryChunks chunks;
  Built built = build(chunks, 100, 100);
  for (const unsigned every : {1u, 3u, 1000000u}) {
    CatalogReader reader(chunks, built.top);
    CatalogWriter writer(chunks, chunks.key);
    chunks.fetched = 0;
    unsigned pages = 0, taken = 0;
    while (true) {
      const std::optional<CatalogReader::PageAhead> ahead = reader.page_ahead();
      if (ahead && ++pages % every != 0) {
        ASSERT_TRUE(writer.add_page(ahead->link));
        reader.pass_page();
        ++taken;
        continue;
      }
      std::optional<Entry> entry = reader.next();
      if (!entry) break;
      writer.add(*entry);
      if (!ahead) continue;
      EXPECT_EQ(entry->path, ahead->link.first);
      EXPECT_FALSE(reader.page_ahead()) << "in the middle of a page";
    }
    const CatalogTop top = writer.finish();
    EXPECT_EQ(top.page.name, built.top.page.name);
    EXPECT_EQ(top.level, built.top.level);
    EXPECT_TRUE(every == 1 || taken > pages / 2);
    EXPECT_TRUE(every <= pages || chunks.fetched < 5) << chunks.fetched;
  }
}

// Else pages would become smaller with each run that takes some over.
TEST(Catalog, APageIsNotTakenOverBehindASmallOne) {
  MemoryChunks chunks;
  Built built = build(chunks, 100, 100);
  CatalogReader reader(chunks, built.top);
  CatalogWriter writer(chunks, chunks.key);
  std::mt19937 random(4);
  writer.add(make_entry("/a", random));
  const std::optional<CatalogReader::PageAhead> ahead = reader.page_ahead();
  ASSERT_TRUE(ahead);
  EXPECT_FALSE(writer.add_page(ahead->link));
  while (std::optional<Entry> entry = reader.next()) writer.add(*entry);
  CatalogReader back(chunks, writer.finish());
  std::size_t entries = 0;
  while (back.next()) ++entries;
  EXPECT_EQ(entries, built.entries.size() + 1);
}

TEST(Catalog, ALostPageCostsOnlyItsStretch) {
  MemoryChunks chunks;
  Built built = build(chunks, 50, 100);
  // Any page that is no top: levels stand in the second byte.
  auto lost = std::find_if(chunks.chunks.begin(), chunks.chunks.end(),
                           [](const auto& chunk) { return chunk.second[1] == 0; });
  chunks.chunks.erase(lost);
  CatalogReader reader(chunks, built.top);
  std::size_t seen = 0;
  int gaps = 0;
  while (true) {
    try {
      if (!reader.next()) break;
      ++seen;
    } catch (const Error&) {
      ++gaps;
      if (CatalogReader::Gap gap; !reader.pass_damage(gap)) break;
    }
  }
  EXPECT_EQ(gaps, 1);
  EXPECT_GT(seen, built.entries.size() * 9 / 10);
  EXPECT_LT(seen, built.entries.size());
}

TEST(Catalog, PagesThatLieAreDamage) {
  auto page_of = [](const std::vector<std::string>& joined) {
    ByteWriter page;
    page.u8(1);
    page.u8(0);
    page.varint(joined.size());
    std::mt19937 random(1);
    std::string previous;
    for (const std::string& path : joined) {
      Entry entry = make_entry("/x", random);
      ByteWriter one;
      write_entry(one, entry, "x");
      page.varint(0);
      page.text(path);
      page.raw(one.view().subspan(2));  // without its own path
      previous = path;
    }
    return page.take();
  };
  EXPECT_NO_THROW(decode_page(page_of({"a", "a/b", "a-b"})));
  for (const std::vector<std::string>& bad : std::vector<std::vector<std::string>>{{"b", "a"},
                                                                                   {"a", "a"},
                                                                                   {"a/../../etc/passwd"},
                                                                                   {"/etc"},
                                                                                   {".."},
                                                                                   {std::string("a\0b", 3)},
                                                                                   {"a//b"},
                                                                                   {"a/."}}) {
    EXPECT_THROW(decode_page(page_of(bad)), Error) << bad[0];
  }
  Bytes long_page = page_of({"a"});
  long_page.push_back(0);
  EXPECT_THROW(decode_page(long_page), Error);
}

TEST(ContentLists, LongListsGoIntoChunksAndComeBack) {
  std::mt19937 random(12);
  for (std::size_t count : {0u, 1u, 90u, 1000u, 60000u}) {
    MemoryChunks chunks;
    ContentListBuilder builder(chunks);
    ContentList expected;
    for (std::size_t i = 0; i < count; ++i) {
      ContentItem item{
          random() % 10 == 0 ? ItemKind::hole : ItemKind::data, 1 + random() % 4000000, {}, 0, 0};
      if (item.kind == ItemKind::data) {
        for (std::uint8_t& byte : item.name.bytes) byte = static_cast<std::uint8_t>(random());
        item.sequence = 3;
      }
      builder.add(item);
      expected.push_back(item);
    }
    ContentList top = builder.finish();
    ByteWriter inlined;
    write_content_list(inlined, top);
    EXPECT_LE(inlined.size(), ContentListBuilder::inline_limit + 100);
    ContentList back;
    walk_content(top, chunks, [&](const ContentItem& item) { back.push_back(item); });
    EXPECT_EQ(back, expected);
  }
}

TEST(ContentLists, ASmallChangeInAVeryLongListCostsLittle) {
  std::mt19937 random(13);
  MemoryChunks chunks;
  ContentList items;
  for (int i = 0; i < 50000; ++i) {
    ContentItem item{ItemKind::data, 1000000, {}, 3, 0};
    for (std::uint8_t& byte : item.name.bytes) byte = static_cast<std::uint8_t>(random());
    items.push_back(item);
  }
  auto write = [&] {
    ContentListBuilder builder(chunks);
    for (const ContentItem& item : items) builder.add(item);
    builder.finish();
  };
  write();
  chunks.added = 0;
  items[25000].name.bytes[3] ^= 1;
  items.insert(items.begin(), items[7]);
  write();
  EXPECT_LT(chunks.added, 100000u);
}

}  // namespace
}  // namespace kestrum::test
