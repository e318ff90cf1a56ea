// What differs between points, and between a point and the disk, held against snapshots; versions of files
// and the names that they had.
#include "engine/tree_compare.hpp"

#include <fcntl.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>

#include "engine/file_compare.hpp"
#include "engine/version_history.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::ElementsAre;
using testing::IsEmpty;

// What differs, by path below the source: "new", "gone", "changed", "attributes". What moved is both.
using Differences = std::map<std::string, std::string>;

Differences between(const Snapshot& before, const Snapshot& now) {
  Differences out;
  for (const auto& [path, seen] : before) {
    const auto other = now.find(path);
    if (other == now.end()) {
      out[path] = "gone";
      continue;
    }
    Seen a = seen, b = other->second;
    const bool folder = a.type == 'd' && b.type == 'd';
    if (a.type != b.type || a.content != b.content) {
      out[path] = "changed";
    } else if (a.mode != b.mode || a.owner != b.owner || a.group != b.group || a.attributes != b.attributes ||
               (!folder && (a.seconds != b.seconds || a.nanoseconds != b.nanoseconds))) {
      out[path] = "attributes";
    }
  }
  for (const auto& [path, seen] : now) {
    if (!before.contains(path)) out[path] = "new";
  }
  return out;
}

class Compares : public testing::Test {
 protected:
  Differences told(const std::function<TreeComparison(const OnTreeChange&)>& compare) {
    Differences out;
    const TreePath root = *TreePath::parse(bench_.source());
    const auto below = [&](const Entry& entry) { return entry.path.below(root).joined(); };
    last_ = compare([&](const TreeChange& change) {
      if (change.how == Differs::moved) {
        ++moved_;
        out[below(*change.before)] = "gone";
        out[below(change.entry)] = "new";
      } else {
        out[below(change.entry)] = change_word(change.how);
      }
    });
    return out;
  }
  Differences points(Sequence a, Sequence b) {
    LookSession subject = bench_.subject();
    OpenPoint from(subject, number(a)), to(subject, number(b));
    return told([&](const OnTreeChange& use) { return compare_points(from, to, {}, control_, use); });
  }
  Differences disk(Sequence a) {
    LookSession subject = bench_.subject();
    OpenPoint from(subject, number(a));
    const Selection selection = make_selection({bench_.source()}, {}, [](const std::string&) {});
    return told(
        [&](const OnTreeChange& use) { return compare_with_disk(from, selection, {}, control_, use); });
  }
  static PointWish number(Sequence sequence) { return {PointWish::By::number, sequence, {}}; }
  FileHistory history(const std::string& name) {
    std::vector<LookSession> subjects;
    subjects.push_back(bench_.subject());
    return file_history(subjects, *TreePath::parse(bench_.source() + "/" + name), control_);
  }

  Workbench bench_;
  RunControl control_;
  TreeComparison last_;
  unsigned moved_ = 0;
};

TEST_F(Compares, RandomTreesDifferAsTheirSnapshotsDo) {
  std::map<Sequence, Snapshot> seen;
  TreeMaker maker(bench_.source(), 71);
  maker.grow(150);
  for (int i = 0; i < 7; ++i) {
    const Sequence point = bench_.run_good(i == 4 ? Kind::full : Kind::incremental);
    seen[point] = take_snapshot(bench_.source());
    maker.churn(25);
  }
  const auto lines = [](const Differences& differences) {
    std::vector<std::string> out;
    for (const auto& [path, how] : differences) out.push_back(how + " " + path);
    return out;
  };
  const auto wrong = [&](const Differences& found, const Differences& expected) {
    std::vector<std::string> out;
    const auto a = lines(found), b = lines(expected);
    std::set_symmetric_difference(a.begin(), a.end(), b.begin(), b.end(), std::back_inserter(out),
                                  [](const std::string& x, const std::string& y) {
                                    return x.substr(x.find(' ')) + x < y.substr(y.find(' ')) + y;
                                  });
    return out;
  };
  const Snapshot now = take_snapshot(bench_.source());
  for (const auto& [a, before] : seen) {
    // A point knows no extended attributes of the disk without reading them, and says nothing of them.
    Snapshot there = now;
    for (auto& [path, one] : there)
      one.attributes = before.contains(path) ? before.at(path).attributes : one.attributes;
    EXPECT_THAT(wrong(disk(a), between(before, there)), IsEmpty()) << "from " << a << " to the disk";
    for (const auto& [b, after] : seen)
      EXPECT_THAT(wrong(points(a, b), between(before, after)), IsEmpty()) << "from " << a << " to " << b;
  }
  EXPECT_GT(moved_, 0u);
}

TEST_F(Compares, WhatMovedIsToldAsMoved) {
  write_file(bench_.source() + "/old/deep/2027.csv", "ringed\n");
  write_file(bench_.source() + "/old/moths.csv", "caught\n");
  write_file(bench_.source() + "/alone.txt", "by itself\n");
  bench_.run_good();
  fs::rename(bench_.source() + "/old", bench_.source() + "/new");
  fs::rename(bench_.source() + "/alone.txt", bench_.source() + "/new/other.txt");
  std::vector<std::string> lines;
  const auto take = [&](const TreeChange& change) {
    lines.push_back(std::string(change_word(change.how)) + " " +
                    (change.before ? std::string(change.before->path.name()) : "") + " " +
                    std::string(change.entry.path.name()) + (change.with_folder ? " along" : "") +
                    (change.moved_along > 0 ? " with " + std::to_string(change.moved_along) : ""));
  };
  const auto expected =
      ElementsAre("moved old new with 2", "moved deep deep along with 1", "moved 2027.csv 2027.csv along",
                  "moved moths.csv moths.csv along", "moved alone.txt other.txt");
  LookSession subject = bench_.subject();
  OpenPoint from(subject, {});
  const Selection selection = make_selection({bench_.source()}, {}, [](const std::string&) {});
  const TreeComparison with_disk = compare_with_disk(from, selection, {}, control_, take);
  EXPECT_THAT(lines, expected);
  EXPECT_EQ(with_disk.files.at(Differs::moved), 3u);
  EXPECT_EQ(with_disk.folders, 2u);
  bench_.run_good();
  lines.clear();
  LookSession again = bench_.subject();
  OpenPoint a(again, number(1)), b(again, number(2));
  compare_points(a, b, {}, control_, take);
  EXPECT_THAT(lines, expected);
}

// What two points share costs nothing.
TEST_F(Compares, ItCostsWhatDiffers) {
  for (int i = 0; i < 6000; ++i)
    write_file(bench_.source() + "/d" + std::to_string(i % 60) + "/n" + std::to_string(i), "x");
  bench_.settle_files();  // else what was written just before is looked at twice, and differs in that
  bench_.run_good();
  write_file(bench_.source() + "/d7/n7", "other");
  bench_.run_good();
  EXPECT_EQ(points(1, 2).size(), 1u);
  EXPECT_LT(last_.pages_read, 3 * 2 * 4u) << "three passes, two sides, a page a level";
  LookSession subject = bench_.subject();
  OpenPoint all(subject, {});
  std::uint64_t pages = 0;
  CatalogReader reader = all.catalog();
  reader.on_page([&](const ChunkRef&) { ++pages; });
  while (reader.next()) {
  }
  EXPECT_GT(pages, 35u);
}

TEST_F(Compares, OnlyTheTimeIsNoOtherContent) {
  write_file(bench_.source() + "/list", "terns\n");
  write_file(bench_.source() + "/other", "terns\n");
  bench_.run_good();
  const timespec times[2] = {{0, UTIME_OMIT}, {1700000000, 5}};
  utimensat(AT_FDCWD, (bench_.source() + "/list").c_str(), times, 0);
  write_file(bench_.source() + "/other", "auks!\n");
  EXPECT_EQ(disk(1), (Differences{{"list", "attributes"}, {"other", "changed"}}));
}

TEST_F(Compares, LinesOfTextAndDigestsOfTheRest) {
  std::string text;
  for (int i = 1; i <= 30; ++i) text += "line " + std::to_string(i) + "\n";
  write_file(bench_.source() + "/notes.txt", text);
  write_file(bench_.source() + "/sound.raw", std::string("\0\1\2", 3));
  bench_.run_good();
  text.replace(text.find("line 12\n"), 8, "line twelve\nand more\n");
  write_file(bench_.source() + "/notes.txt", text);
  write_file(bench_.source() + "/sound.raw", std::string("\0\1\3", 3));
  LookSession subject = bench_.subject();
  OpenPoint point(subject, {});
  const FileComparison notes =
      compare_file_disk(point, *TreePath::parse(bench_.source() + "/notes.txt"), control_);
  ASSERT_TRUE(notes.text);
  std::vector<std::string> lines;
  for (const ChangedLine& line : notes.lines)
    lines.push_back(std::string(1, " -+"[static_cast<int>(line.how)]) + line.text);
  EXPECT_THAT(lines, ElementsAre(" line 10", " line 11", "-line 12", "+line twelve", "+and more", " line 13",
                                 " line 14"));
  EXPECT_EQ(notes.lines[2].before, 12u);
  EXPECT_EQ(notes.lines[4].now, 13u);
  const FileComparison sound =
      compare_file_disk(point, *TreePath::parse(bench_.source() + "/sound.raw"), control_);
  EXPECT_FALSE(sound.text);
  EXPECT_FALSE(sound.same);
  // As sha256sum says of 00 01 02.
  EXPECT_EQ(sound.before.sha256, "ae4b3280e56e2faf83f414a6e3dabe9d5fbe18976544c05fed121accb85b53fc");
  const FileComparison gone =
      compare_file_disk(point, *TreePath::parse(bench_.source() + "/never"), control_);
  EXPECT_FALSE(gone.before.there || gone.now.there);
}

TEST_F(Compares, AFileIsFollowedThroughItsNames) {
  const std::string first = bench_.source() + "/budget.csv", second = bench_.source() + "/2027/budget.csv";
  write_file(bench_.source() + "/else", "else");
  bench_.run_good();  // 1: not there
  write_file(first, "one\n");
  bench_.run_good();
  bench_.run_good();
  write_file(first, "two, and more\n");
  bench_.run_good();  // 4
  fs::create_directories(bench_.source() + "/2027");
  fs::rename(first, second);
  bench_.run_good();
  write_file(second, "three\n");
  bench_.run_good();
  fs::remove(second);
  bench_.run_good();  // 7
  const FileHistory found = history("2027/budget.csv");
  ASSERT_EQ(found.names.size(), 2u);
  EXPECT_EQ(found.points, 7u);
  ASSERT_EQ(found.names[0].versions.size(), 2u);
  EXPECT_THAT(found.names[0].versions[0].points, ElementsAre(5u));
  EXPECT_EQ(found.names[0].versions[0].after, AfterVersion::changed);
  EXPECT_EQ(found.names[0].versions[1].after, AfterVersion::gone);
  EXPECT_EQ(found.names[0].versions[1].followed, 7u);
  EXPECT_EQ(found.names[0].moved_from, *TreePath::parse(first));
  ASSERT_EQ(found.names[1].versions.size(), 2u);
  EXPECT_THAT(found.names[1].versions[0].points, ElementsAre(2u, 3u));
  EXPECT_THAT(found.names[1].versions[1].points, ElementsAre(4u));
  EXPECT_EQ(found.names[1].moved_to, *TreePath::parse(second));
  EXPECT_EQ(history("budget.csv").names[0].moved_to, *TreePath::parse(second));
  EXPECT_TRUE(history("never").names.empty());
}

TEST(NameQueries, AllThatIsGivenMustFit) {
  const auto fits = [](const NameQuery& query, const std::string& path, EntryType type = EntryType::file,
                       std::uint64_t size = 100, std::int64_t seconds = 1000) {
    return NameMatcher(query).fits(path, {type, {seconds, 0}, size});
  };
  EXPECT_TRUE(fits({.pattern = "BUDG"}, "srv/lists/budget.csv"));
  EXPECT_FALSE(fits({.pattern = "lists"}, "srv/lists/budget.csv"));
  EXPECT_TRUE(fits({.pattern = "lists/bud"}, "srv/lists/budget.csv"));
  EXPECT_TRUE(fits({.pattern = "*.csv"}, "srv/lists/Budget.CSV"));
  EXPECT_FALSE(fits({.pattern = "*.cs"}, "srv/lists/budget.csv"));
  EXPECT_TRUE(fits({.pattern = "/srv/*/budget*"}, "srv/lists/budget.csv"));
  EXPECT_TRUE(fits({.pattern = "20(26|27)-0[1-3]", .regex = true}, "srv/2027-03.csv"));
  EXPECT_TRUE(fits({.pattern = "^/srv/.*\\.csv$", .regex = true}, "srv/a/B.CSV"));
  EXPECT_TRUE(fits({.pattern = "m.we", .regex = true}, "srv/m\xc3\xb6we")) << "one letter of two bytes";
  EXPECT_TRUE(fits({.pattern = "x$", .regex = true}, "srv/\xff\xfex")) << "no UTF-8";
  EXPECT_FALSE(fits({.pattern = "^(a+)+$", .regex = true}, std::string(200, 'a') + "!"))
      << "ends all the same";
  EXPECT_TRUE(fits({.at_least = 100, .at_most = 100}, "a"));
  EXPECT_FALSE(fits({.at_least = 101}, "a"));
  EXPECT_FALSE(fits({.at_most = 99}, "a"));
  EXPECT_FALSE(fits({.at_least = 0}, "a", EntryType::folder)) << "a folder has no size";
  EXPECT_TRUE(fits({.since = Instant{1000, 0}, .until = Instant{1000, 0}}, "a"));
  EXPECT_FALSE(fits({.since = Instant{1001, 0}}, "a"));
  EXPECT_FALSE(fits({.until = Instant{999, 0}}, "a"));
  EXPECT_TRUE(fits({.type = EntryType::folder}, "a", EntryType::folder));
  EXPECT_FALSE(fits({.type = EntryType::folder}, "a"));
  try {
    NameMatcher bad(NameQuery{.pattern = "a(b", .regex = true});
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::usage);
    EXPECT_THAT(error.what(), testing::HasSubstr("at character 4"));
  }
}

TEST(Beginnings, OfADayAWeekAMonth) {
  ASSERT_TRUE(set_local_zone("Europe/London"));
  const Instant now = from_local_latest({2027, 4, 7, 12, 0, 0});  // a Wednesday
  const auto begins = [&](const std::string& text) { return local_text(parse_beginning(text, now).value()); };
  EXPECT_EQ(begins("2027-03-28"), "2027-03-28 00:00");
  EXPECT_EQ(begins("yesterday"), "2027-04-06 00:00");
  EXPECT_EQ(begins("last week"), "2027-03-29 00:00");
  EXPECT_EQ(begins("last month"), "2027-03-01 00:00");
  EXPECT_EQ(begins("2027-03-14 09:30"), "2027-03-14 09:30");
  EXPECT_FALSE(parse_beginning("latest", now));
  EXPECT_FALSE(parse_beginning("12", now));
  EXPECT_FALSE(parse_beginning("soon", now));
  set_local_zone("UTC");
}

}  // namespace
}  // namespace kestrum::test
