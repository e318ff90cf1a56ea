// Which files are taken: the rule language, case by case, and against a slow evaluation of its definition;
// searches by type; limits; what lies below other file systems.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>
#include <utime.h>

#include <random>
#include <set>

#include "base/error.hpp"
#include "base/text.hpp"
#include "source/pattern.hpp"
#include "source/walker.hpp"
#include "support/mounts.hpp"
#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

SkipRules rules_of(const std::vector<std::string>& patterns) {
  return SkipRules(patterns);
}

// What the walk decides on its way down to a path; folders end with '/'.
bool left_out(const std::string& rule_list, std::string path) {
  SkipRules rules = rules_of(split(rule_list, ' '));
  bool folder = path.ends_with('/');
  std::vector<std::string> names = TreePath::parse(path)->components();
  TreePath at;
  int rule = SkipRules::no_rule;
  for (std::size_t i = 0; i < names.size(); ++i) {
    at = at.child(names[i]);
    rule = rules.deciding(at, folder || i + 1 < names.size(), rule);
  }
  return rules.leaves_out(rule);
}

TEST(SkipRules, DecideAsTheTableSays) {
  struct Case {
    const char* rules;  // separated by blanks, in order
    const char* path;
    bool out;
  };
  const Case cases[] = {
      // names
      {"*.part", "/srv/a.part", true},
      {"*.part", "/srv/a.parts", false},
      {"*.part", "/srv/.part", true},
      {"*.part", "/srv/x.part/", true},
      {"*.part", "/srv/x.part/inside.csv", true},
      {"moths.csv", "/srv/moths.csv", true},
      {"moths.csv", "/srv/Moths.csv", false},
      {"moths", "/srv/moths/2027.csv", true},
      {"?.csv", "/a.csv", true},
      {"?.csv", "/ab.csv", false},
      {"[a-c]x", "/bx", true},
      {"[!a-c]x", "/bx", false},
      {"[!a-c]x", "/dx", true},
      {"[]]x", "/]x", true},
      {"\\*x", "/*x", true},
      {"\\*x", "/ax", false},
      {"\\!x", "/!x", true},
      {"*", "/srv/anything", true},
      {"*a*b*c*", "/xaxbxcx", true},
      {"*a*b*c*", "/xaxcxbx", false},
      {"\xff*", "/\xff\xfe", true},
      {"*.tar.zst", "/srv/x.tar.zst", true},
      {"*.tar.zst", "/srv/x.zst", false},
      {"x.*", "/srv/x.tar.zst", true},
      {".*", "/srv/.hidden", true},
      {".*", "/srv/plain.csv", false},
      // folders only
      {"tmp/", "/srv/tmp/", true},
      {"tmp/", "/srv/tmp", false},
      {"tmp/", "/srv/tmp/deep/below.csv", true},
      {"tmp", "/srv/tmp", true},
      {"*.d/", "/srv/x.d/", true},
      {"*.d/", "/srv/x.d", false},
      // anchored
      {"/srv/tmp", "/srv/tmp", true},
      {"/srv/tmp", "/home/srv/tmp", false},
      {"/srv/tmp/", "/srv/tmp/a/b", true},
      {"/srv/tmp/", "/srv/tmpx/a", false},
      {"/srv/*/raw", "/srv/2027/raw", true},
      {"/srv/*/raw", "/srv/2027/06/raw", false},
      {"/srv/**", "/srv/x/y", true},
      {"/srv/**", "/srv/", false},
      {"/srv/**/raw/", "/srv/raw/", true},
      {"/srv/**/raw/", "/srv/2027/06/raw/a.wav", true},
      {"/srv/**/*.wav", "/srv/2027/06/a.wav", true},
      {"/srv/**/*.wav", "/home/a.wav", false},
      // several components, in any folder
      {"a/b", "/x/a/b", true},
      {"a/b", "/a/b", true},
      {"a/b", "/x/a/c/b", false},
      {"a/*/b", "/x/a/c/b", true},
      {"a/*/b", "/x/a/c/d/b", false},
      {"a/**/b", "/x/a/c/d/b", true},
      {"a/**/b", "/x/a/b", true},
      {"**/x", "/a/b/x", true},
      {".local/share/Trash/", "/home/isla/.local/share/Trash/files/a.csv", true},
      {".local/share/Trash/", "/home/isla/share/Trash/a.csv", false},
      // the last one that speaks of it wins
      {"*.part !keep.part", "/srv/keep.part", false},
      {"*.part !keep.part", "/srv/other.part", true},
      {"!keep.part *.part", "/srv/keep.part", true},
      {"scratch/ !keep.csv", "/srv/scratch/keep.csv", false},
      {"scratch/ !keep.csv", "/srv/scratch/other.csv", true},
      {"scratch/ !scratch/keep/", "/srv/scratch/keep/a/b.csv", false},
      {"scratch/ !scratch/keep/", "/srv/scratch/lose/b.csv", true},
      {"scratch/ !scratch/keep/ *.tmp", "/srv/scratch/keep/b.tmp", true},
      {"*.tmp scratch/ !scratch/keep/", "/srv/scratch/keep/b.tmp", false},
      {"/srv/ !/srv/ringing/ /srv/ringing/raw/", "/srv/ringing/raw/a.wav", true},
      {"/srv/ !/srv/ringing/ /srv/ringing/raw/", "/srv/ringing/2027.csv", false},
      {"/srv/ !/srv/ringing/ /srv/ringing/raw/", "/srv/moths/2027.csv", true},
      {"* !*.csv", "/srv/moths/2027.csv", false},
      {"* !*.csv", "/srv/moths/2027.png", true},
      {"* !*/", "/srv/moths/", false},
      {"/a !/a", "/a", false},
      {"/a !/a /a", "/a/x", true},
      {"a/ !a/b/ a/b/c/ !a/b/c/d", "/a/b/c/d", false},
      {"a/ !a/b/ a/b/c/ !a/b/c/d", "/a/b/c/e", true},
  };
  static_assert(std::size(cases) >= 60);
  for (const Case& one : cases)
    EXPECT_EQ(left_out(one.rules, one.path), one.out) << one.rules << " on " << one.path;
}

TEST(SkipRules, WhatCannotMeanAnythingIsRefused) {
  for (const char* bad : {"/", "", "a//b", "[abc", "//", "!", "!/", "!a//b"})
    EXPECT_THROW(rules_of({bad}), Error) << bad;
  // No pattern may take for ever.
  EXPECT_FALSE(matches_pattern("*a*a*a*a*a*a*a*a*b", std::string(5000, 'a')));
}

TEST(SkipRules, SayWhichOfTwoContradictingOnesWins) {
  EXPECT_EQ(rules_of({"*.part", "!*.csv"}).contradictions().size(), 0u);
  std::vector<std::string> said = rules_of({"*.part", "x", "!*.part"}).contradictions();
  ASSERT_EQ(said.size(), 1u);
  EXPECT_EQ(said[0], "'*.part' never decides: '!*.part' stands after it, and the last one wins");
  EXPECT_EQ(rules_of({"tmp", "!tmp/"}).contradictions().size(), 0u);  // files of that name stay out
  EXPECT_EQ(rules_of({"!tmp/", "tmp"}).contradictions().size(), 1u);
}

struct Taken {
  std::set<std::string> paths, above;
  std::map<std::string, std::string> categories;
  std::map<std::string, Reason> out;
  bool in_order = true;
};

Taken walk(const Selection& selection, const std::string& root) {
  FilesystemTable filesystems;
  Taken taken;
  Walker walker(
      selection, filesystems, [](const Problem& problem) { ADD_FAILURE() << problem.path << problem.reason; },
      [](const std::string&) {},
      [&](const LeftOut& left) {
        std::string path = left.path.absolute();
        EXPECT_TRUE(
            taken.out.emplace(path.substr(std::min(path.size(), root.size())), left.choice.reason).second)
            << path;
      });
  std::optional<TreePath> last;
  while (const Walked* found = walker.next()) {
    taken.in_order = taken.in_order && (!last || *last < found->path);
    last = found->path;
    std::string path = found->path.absolute();
    if (!path.starts_with(root)) continue;
    path.erase(0, root.size());
    (found->above_source ? taken.above : taken.paths).insert(path);
    if (!found->above_source) taken.categories[path] = selection.categories.at(found->choice.category);
  }
  return taken;
}

// The definition, slowly: the last rule that matches the thing or a folder above it, below the source.
bool out_by_definition(const std::vector<std::string>& rules, const TreePath& source, const TreePath& path,
                       bool is_folder) {
  for (auto rule = rules.rbegin(); rule != rules.rend(); ++rule) {
    SkipRules one = rules_of({*rule});
    for (TreePath at = path; at != source; at = at.parent()) {
      if (one.deciding(at, at != path || is_folder) != SkipRules::no_rule) return !rule->starts_with('!');
    }
  }
  return false;
}

TEST(Selection, TheWalkTakesWhatTheDefinitionSays) {
  TempFolder folder;
  std::mt19937 random(20270301);
  const std::vector<std::string> names{"a", "b", "c.x", "d.y", ".e"};
  std::vector<std::string> all;
  std::function<void(const std::string&, int)> grow = [&](const std::string& at, int depth) {
    for (const std::string& name : names) {
      std::string path = at + "/" + name;
      if (depth > 0 && random() % 2 == 0) {
        all.push_back(path + "/");
        fs::create_directories(folder.path() + path);
        grow(path, depth - 1);
      } else {
        all.push_back(path);
        write_file(folder.path() + path, "x");
      }
    }
  };
  grow("", 3);
  TreePath source = *TreePath::parse(folder.path());
  std::vector<std::string> parts{"a", "b", "c.x", "*.x", "*", "**", ".*", "[ab]", "?"};
  for (int round = 0; round < 300; ++round) {
    std::vector<std::string> rules;
    for (auto n = 1 + random() % 4; n > 0; --n) {
      std::string rule = random() % 3 == 0 ? folder.path() + "/" : std::string();
      for (auto deep = random() % 3; deep > 0; --deep) rule += parts[random() % parts.size()] + "/";
      rule += parts[random() % parts.size()];
      if (random() % 4 == 0) rule += "/";
      rules.push_back((random() % 2 == 0 ? "!" : "") + rule);
    }
    Selection selection = make_selection({folder.path()}, rules, [](const std::string&) {});
    Taken taken = walk(selection, folder.path());
    EXPECT_TRUE(taken.in_order);
    std::set<std::string> expected{""}, above;
    for (const std::string& path : all) {
      bool is_folder = path.ends_with('/');
      std::string plain = is_folder ? path.substr(0, path.size() - 1) : path;
      if (out_by_definition(rules, source, *TreePath::parse(folder.path() + plain), is_folder)) continue;
      expected.insert(plain);
    }
    for (std::string path : expected) {
      for (; path.rfind('/') != std::string::npos; path.resize(path.rfind('/'))) {
        if (std::string up = path.substr(0, path.rfind('/')); !expected.contains(up)) above.insert(up);
      }
    }
    ASSERT_EQ(taken.paths, expected) << join(rules, " ");
    ASSERT_EQ(taken.above, above) << join(rules, " ");
  }
}

// A home with a standard folder, and pictures elsewhere in it.
class Search : public testing::Test {
 protected:
  void SetUp() override {
    for (const char* path : {"Pictures/a.png", "Pictures/notes.txt", "tern.JPG", "ringing/2027/b.jpeg",
                             "ringing/c.csv", "ringing/deep/er/x.csv", ".cache/thumb.png", "work/.png",
                             "work/png", "work/list.jpg/x.csv", "sounds/dawn.wav"})
      write_file(folder_ / path, "x");
    fs::create_symlink("tern.JPG", folder_ / "link.jpg");
    selection_.categories = {"named folders", "pictures", "recordings"};
    selection_.types = {{"png", 1}, {"jpg", 1}, {"jpeg", 1}, {"wav", 2}};
  }
  Taken taken(std::vector<WantedPlace> more = {}) {
    more.push_back({folder_.path(), false, 0});
    more.push_back({folder_ / "Pictures", true, 1});
    set_places(selection_, more, [](const std::string&) {});
    return walk(selection_, folder_.path());
  }
  TempFolder folder_;
  Selection selection_;
};

TEST_F(Search, TakesTheStandardFolderAndTheTypesElsewhereOnce) {
  Taken found = taken();
  EXPECT_EQ(found.paths, (std::set<std::string>{"/Pictures", "/Pictures/a.png", "/Pictures/notes.txt",
                                                "/tern.JPG", "/ringing/2027/b.jpeg", "/sounds/dawn.wav"}));
  EXPECT_EQ(found.above, (std::set<std::string>{"", "/ringing", "/ringing/2027", "/sounds"}));
  EXPECT_TRUE(found.in_order);
  EXPECT_EQ(found.categories["/Pictures/notes.txt"], "pictures");
  EXPECT_EQ(found.categories["/sounds/dawn.wav"], "recordings");
  EXPECT_EQ(found.out.at("/.cache"), Reason::hidden_in_search);
  EXPECT_EQ(found.out.at("/ringing/c.csv"), Reason::other_type);
  EXPECT_FALSE(found.out.contains("/ringing"));
}

TEST_F(Search, NamedFoldersInsideAreTakenWholeEvenInHiddenOnes) {
  write_file(folder_ / ".config/kept/sub/x", "x");
  write_file(folder_ / ".config/loose.png", "x");
  selection_.skip = rules_of({"ringing/"});
  Taken found = taken({{folder_ / ".config/kept", true, 0}, {folder_ / "ringing/deep", true, 0}});
  EXPECT_TRUE(found.paths.contains("/.config/kept/sub/x"));
  EXPECT_TRUE(found.above.contains("/.config"));
  EXPECT_FALSE(found.paths.contains("/.config/loose.png"));
  EXPECT_TRUE(found.paths.contains("/ringing/deep/er/x.csv"));
  EXPECT_FALSE(found.paths.contains("/ringing/2027/b.jpeg"));
  EXPECT_TRUE(found.in_order);
}

TEST_F(Search, WithNothingToTakeShowsOnlyWhatStandsAbove) {
  selection_.types.clear();
  set_places(selection_, {{folder_.path(), false, 0}}, [](const std::string&) {});
  Taken found = walk(selection_, folder_.path());
  EXPECT_TRUE(found.paths.empty());
  EXPECT_TRUE(found.above.empty());
}

TEST(Selection, LimitsHoldForFilesWhateverTheRulesSay) {
  TempFolder folder;
  write_file(folder / "small", "x");
  write_file(folder / "large", std::string(5000, 'x'));
  write_file(folder / "old", std::string(100, 'x'));
  utimbuf times{1000000, 1000000};
  utime((folder / "old").c_str(), &times);
  fs::create_directory(folder / "empty");
  Selection selection = make_selection({folder.path()}, {"l*", "!large"}, [](const std::string&) {});
  selection.limits.largest = 4999;
  selection.limits.smallest = 2;
  selection.limits.oldest = Instant{2000000, 0};
  Taken found = walk(selection, folder.path());
  EXPECT_EQ(found.paths, (std::set<std::string>{"", "/empty"}));
  EXPECT_EQ(found.out,
            (std::map<std::string, Reason>{
                {"/large", Reason::larger}, {"/old", Reason::older}, {"/small", Reason::smaller}}));
  selection.limits = {};
  selection.limits.newest = Instant{2000000, 0};
  EXPECT_EQ(walk(selection, folder.path()).paths, (std::set<std::string>{"", "/empty", "/old"}));
}

TEST(Selection, TaggedCachesAreKeptAsEmptyFolders) {
  TempFolder folder;
  write_file(folder / "c/CACHEDIR.TAG",
             "Signature: 8a477f597d28d172789f06886806bc55\n# made again at will\n");
  write_file(folder / "c/sub/x", "x");
  write_file(folder / "d/CACHEDIR.TAG", "Signature: something else, which says nothing at all\n");
  Selection selection = make_selection({folder.path()}, {}, [](const std::string&) {});
  EXPECT_TRUE(walk(selection, folder.path()).paths.contains("/c/sub/x"));
  selection.tagged_caches = false;
  Taken found = walk(selection, folder.path());
  EXPECT_TRUE(found.paths.contains("/c"));
  EXPECT_FALSE(found.paths.contains("/c/sub"));
  EXPECT_FALSE(found.paths.contains("/c/CACHEDIR.TAG"));
  EXPECT_TRUE(found.paths.contains("/d/CACHEDIR.TAG"));
  EXPECT_EQ(found.out.at("/c"), Reason::tagged);
  // A tagged folder that a person names is meant.
  Selection named = make_selection({folder / "c"}, {}, [](const std::string&) {});
  named.tagged_caches = false;
  EXPECT_TRUE(walk(named, folder.path()).paths.contains("/c/sub/x"));
}

TEST(Selection, OtherFileSystemsBelowASource) {
  if (geteuid() != 0) GTEST_SKIP() << "mounting a file system needs root";
  TempFolder folder;
  write_file(folder / "here/x", "x");
  Mounted other("tmpfs", folder / "m", "-t tmpfs -o size=1m");
  ASSERT_TRUE(other.good());
  for (const char* path : {"m/a", "m/deep/keep/y", "m/deep/z", "m/other/w"}) write_file(folder / path, "x");
  Selection selection = make_selection({folder.path()}, {}, [](const std::string&) {});
  EXPECT_TRUE(walk(selection, folder.path()).paths.contains("/m/other/w"));
  selection.mounted_below = false;
  Taken found = walk(selection, folder.path());
  EXPECT_EQ(found.paths, (std::set<std::string>{"", "/here", "/here/x", "/m"}));
  EXPECT_EQ(found.out, (std::map<std::string, Reason>{{"/m", Reason::mounted}}));
  // A folder there that is a place of its own is meant; nothing beside it is.
  selection = make_selection({folder.path(), folder / "m/deep/keep"}, {}, [](const std::string&) {});
  selection.mounted_below = false;
  found = walk(selection, folder.path());
  EXPECT_EQ(found.paths,
            (std::set<std::string>{"", "/here", "/here/x", "/m", "/m/deep/keep", "/m/deep/keep/y"}));
  EXPECT_EQ(found.above, (std::set<std::string>{"/m/deep"}));
  EXPECT_FALSE(explain_choice(selection, folder / "m/other/w").taken);
  EXPECT_TRUE(explain_choice(selection, folder / "m/deep/keep/y").taken);
}

TEST(Selection, ExplainsWhatTheWalkDoes) {
  TempFolder folder;
  for (const char* path : {"a/keep.part", "a/x.part", "scratch/deep/er", "scratch/keep/y", "b"})
    write_file(folder / path, "x");
  Selection selection = make_selection(
      {folder.path()}, {"*.part", "!keep.part", "scratch/", "!scratch/keep/"}, [](const std::string&) {});
  auto why = [&](const std::string& path) { return explain_choice(selection, folder.path() + path); };
  EXPECT_EQ(why("/b").text, "taken: it lies in a folder that is named in [what] folders");
  EXPECT_EQ(why("").text, "taken: it is named in [what] folders");
  EXPECT_EQ(why("/a/x.part").text, "left out: by [what] skip, '*.part'");
  EXPECT_EQ(why("/a/keep.part").text, "taken: by [what] skip, '!keep.part'");
  EXPECT_EQ(why("/scratch/deep/er").text,
            "left out: by [what] skip, 'scratch/', which speaks of " + folder.path() + "/scratch");
  EXPECT_TRUE(why("/scratch/keep/y").taken);
  EXPECT_FALSE(explain_choice(selection, "/proc/self").taken);
  EXPECT_THROW(why("/nowhere"), Error);
  // The same verdict as the walk's, for everything there is.
  Taken found = walk(selection, folder.path());
  for (const auto& entry : fs::recursive_directory_iterator(folder.path())) {
    std::string path = entry.path().string().substr(folder.path().size());
    EXPECT_EQ(why(path).taken, found.paths.contains(path)) << path;
  }
}

}  // namespace
}  // namespace kestrum::test
