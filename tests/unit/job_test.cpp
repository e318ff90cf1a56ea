// What a job file says, in words and as a selection: lengths, keep rules, categories in people's homes.
#include <gtest/gtest.h>

#include "base/error.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "job/categories.hpp"
#include "job/job_keys.hpp"
#include "job/job_selection.hpp"
#include "job/presets.hpp"
#include "job/usual_list.hpp"
#include "source/walker.hpp"
#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

TEST(Span, SaysHowLong) {
  struct Case {
    const char* text;
    const char* back;  // nullptr: refused
  };
  for (const Case& one : {Case{"2 days", "2 days"}, Case{"1 day", "1 day"}, Case{" 3  weeks ", "3 weeks"},
                          Case{"1 months", "1 month"}, Case{"10years", "10 years"},
                          Case{"90 minutes", "90 minutes"}, Case{"2", nullptr}, Case{"days", nullptr},
                          Case{"0 days", nullptr}, Case{"-1 days", nullptr}, Case{"2 dayz", nullptr},
                          Case{"1.5 days", nullptr}, Case{"999999 days", nullptr}, Case{"", nullptr}}) {
    std::optional<Span> span = parse_span(one.text);
    EXPECT_EQ(span.has_value(), one.back != nullptr) << one.text;
    if (span && one.back != nullptr) {
      EXPECT_EQ(span->text(), one.back);
    }
  }
  Instant end_of_may = from_local_earliest({2027, 5, 31, 9, 30, 0});
  EXPECT_EQ(local_text(before(end_of_may, {3, Span::Unit::month})), "2027-02-28 09:30");
  EXPECT_EQ(local_text(before(end_of_may, {1, Span::Unit::year})), "2026-05-31 09:30");
  // The same time of day on the other side of a clock change.
  EXPECT_EQ(local_text(before(end_of_may, {12, Span::Unit::week})), "2027-03-08 09:30");
}

TEST(Keep, RulesAreSaidBack) {
  for (const char* good : {"every point for 14 days", "one a week for 2 months", "one a month for 1 year",
                           "one an hour for 2 days", "one a day for 3 weeks", "one a year for ever"})
    EXPECT_EQ(parse_thin_rule(good).text(), good);
  for (const char* bad :
       {"", "every point", "one a fortnight for 2 months", "one for 2 days", "two a week for 1 year",
        "one a week for 2", "one a week for", "every point for 0 days"})
    EXPECT_THROW(parse_thin_rule(bad), Error) << bad;
  try {
    parse_thin_rule("one a wek for 2 months");
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.hint(), "did you mean \"one a week for 2 months\"?");
  }
  EXPECT_EQ(parse_count_of("10 points", "point"), 10u);
  EXPECT_EQ(parse_count_of("1 chain", "chain"), 1u);
  for (const char* bad : {"10", "points", "0 points", "10 chains", "-1 points", "10 pointss"})
    EXPECT_THROW(parse_count_of(bad, "point"), Error) << bad;
  EXPECT_EQ(parse_percent("85%"), 85u);
  EXPECT_EQ(parse_percent("85 %"), 85u);
  for (const char* bad : {"85", "0%", "100%", "%", "eighty%"}) EXPECT_THROW(parse_percent(bad), Error) << bad;
}

// A machine with two people, one of whom speaks another language.
class Homes : public testing::Test {
 protected:
  void SetUp() override {
    for (const char* path :
         {"isla/Documents/list.odt", "isla/Pictures/a.png", "isla/work/b.jpg", "isla/work/c.o",
          "isla/.thunderbird/x.default/Inbox", "isla/.thunderbird/x.default/.parentlock",
          "isla/.cache/thumb.jpg", "isla/.mozilla/firefox/p/places.sqlite",
          "isla/.mozilla/firefox/p/cache2/entries/1", "isla/.bashrc", "isla/.config/x.conf",
          "magnus/Bilder/fugl.png", "magnus/Dokumenter/liste.txt", "magnus/Pictures/no.xcf",
          "magnus/notes.txt", "srv/ringing.csv"})
      write_file(folder_ / path, "x");
    write_file(
        folder_ / "magnus/.config/user-dirs.dirs",
        "# made by the desktop\nXDG_PICTURES_DIR=\"$HOME/Bilder\"\nXDG_DOCUMENTS_DIR=\"$HOME/Dokumenter\"\n"
        "XDG_MUSIC_DIR=\"$HOME/\"\nXDG_VIDEOS_DIR=\"/\"\nXDG_DESKTOP_DIR=\"$HOME/..\"\nnonsense\nXDG_X=\"\n");
    people_.me = {"isla", 1000, folder_ / "isla"};
    people_.everybody = {people_.me, {"magnus", 1001, folder_ / "magnus"}};
  }
  std::set<std::string> files(const WhatToSave& what) {
    Selection selection = select(what, people_, SystemClock().now(), [](const std::string&) {});
    FilesystemTable filesystems;
    std::set<std::string> out;
    Walker walker(
        selection, filesystems,
        [](const Problem& problem) { ADD_FAILURE() << problem.path << problem.reason; },
        [](const std::string&) {});
    while (const Walked* found = walker.next()) {
      if (!S_ISREG(found->status.st_mode)) continue;
      EXPECT_TRUE(out.insert(found->path.absolute().substr(folder_.path().size() + 1)).second);
    }
    return out;
  }
  TempFolder folder_;
  People people_;
};

using Files = std::set<std::string>;

TEST_F(Homes, CategoriesAreStandardFoldersAndTypesTakenOnce) {
  WhatToSave what;
  what.categories = {"pictures"};
  EXPECT_EQ(files(what), (Files{"isla/Pictures/a.png", "isla/work/b.jpg"}));
  what.people = {"everybody"};
  EXPECT_EQ(files(what), (Files{"isla/Pictures/a.png", "isla/work/b.jpg", "magnus/Bilder/fugl.png",
                                "magnus/Pictures/no.xcf"}));
  what.people = {"magnus"};
  what.categories = {"pictures", "documents", "music"};
  EXPECT_EQ(files(what), (Files{"magnus/Bilder/fugl.png", "magnus/Dokumenter/liste.txt",
                                "magnus/Pictures/no.xcf", "magnus/notes.txt"}));
  what.categories = {"video", "desktop"};  // a folder that holds the home is not believed
  EXPECT_EQ(files(what), Files{});
  what.people = {"me"};
  what.categories = {"mail", "browser profiles"};
  EXPECT_EQ(files(what),
            (Files{"isla/.mozilla/firefox/p/places.sqlite", "isla/.thunderbird/x.default/.parentlock",
                   "isla/.thunderbird/x.default/Inbox"}));
  what.usual_list = false;
  EXPECT_TRUE(files(what).contains("isla/.mozilla/firefox/p/cache2/entries/1"));
  what.categories = {"settings"};
  EXPECT_EQ(files(what), (Files{"isla/.bashrc", "isla/.config/x.conf"}));
}

TEST_F(Homes, FoldersCategoriesAndPatternsGoTogether) {
  WhatToSave what;
  what.people = {"everybody"};
  what.categories = {"everything"};
  what.folders = {folder_ / "srv", folder_ / "isla/work"};
  what.skip = {"~/work/", "!~/work/b.jpg", ".config/"};
  Files found = files(what);
  EXPECT_TRUE(found.contains("srv/ringing.csv"));
  EXPECT_TRUE(found.contains("isla/work/b.jpg"));
  EXPECT_TRUE(found.contains("isla/work/c.o"));  // named, so it is meant
  EXPECT_FALSE(found.contains("isla/.cache/thumb.jpg"));
  EXPECT_FALSE(found.contains("isla/.config/x.conf"));
  EXPECT_TRUE(found.contains("isla/.thunderbird/x.default/Inbox"));
  what.hidden = false;
  EXPECT_FALSE(files(what).contains("isla/.thunderbird/x.default/Inbox"));
  what.skip = {"!.thunderbird/"};
  EXPECT_TRUE(files(what).contains("isla/.thunderbird/x.default/Inbox"));
}

TEST_F(Homes, TheJobsOwnPatternsTakeStandardFoldersOut) {
  WhatToSave what;
  what.categories = {"pictures", "mail"};
  what.skip = {"~/Pictures/", ".thunderbird/"};
  EXPECT_EQ(files(what), (Files{"isla/work/b.jpg"}));
  what.skip = {"~/Pictures/", "!a.png"};
  EXPECT_TRUE(files(what).contains("isla/Pictures/a.png"));
  // Names with a dot are left out, but not the mail folder that was asked for.
  what.skip.clear();
  what.hidden = false;
  EXPECT_TRUE(files(what).contains("isla/.thunderbird/x.default/Inbox"));
  // A folder named besides is taken although it lies in what a pattern leaves out.
  what.folders = {folder_ / "isla", folder_ / "isla/work"};
  what.skip = {"work/"};
  EXPECT_TRUE(files(what).contains("isla/work/c.o"));
}

TEST_F(Homes, SomebodyUnknownIsRefused) {
  WhatToSave what;
  what.categories = {"pictures"};
  what.people = {"magnum"};
  try {
    files(what);
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.hint(), "did you mean 'magnus'?");
  }
}

TEST(Accounts, AreReadInTheFormOfPasswd) {
  TempFolder folder;
  fs::create_directories(folder / "isla");
  write_file(folder / "accounts", "daemon:x:1:1::" + folder.path() +
                                      ":/usr/sbin/nologin\nisla:x:1000:1000::" + (folder / "isla") +
                                      ":/bin/bash\nghost:x:1001:1001::" + (folder / "gone") +
                                      ":/bin/bash\nbot:x:1002:1002::" + (folder / "isla") + ":/bin/false\n");
  People people = find_people(folder / "accounts", "");
  ASSERT_EQ(people.everybody.size(), 1u);
  EXPECT_EQ(people.everybody[0].name, "isla");
  EXPECT_THROW(find_people(folder / "nothing", ""), Error);
}

TEST(Job, PresetsAndTheUsualListAreValid) {
  for (const Preset& preset : presets()) {
    JobValues values = preset.values;
    values[{"where", "destinations"}] = {"/media/tern-1"};
    std::string text = job_text("wardens", values);
    EXPECT_EQ(parse_job("wardens", "x.toml", text).given, values) << preset.name;
  }
  std::vector<SkipRules::Source> rules;
  for (const UsualSkip& skip : usual_list())
    rules.push_back({skip.pattern, SkipRules::Origin::usual_list, {}});
  EXPECT_NO_THROW(SkipRules{rules});
}

TEST(Job, WhatCannotGoTogetherIsRefused) {
  const std::string where = "[where]\ndestinations = [\"/media/tern-1\"]\n";
  const char* const wrong[] = {
      "[what]\npeople = [\"me\"]\n",
      "[what]\nfolders = [\"/srv\"]\npeople = [\"everybody\"]\n",
      "[what]\nfolders = []\n",
      "[what]\nfolders = [\"srv\"]\n",
      "[what]\ncategories = [\"pictuers\"]\n",
      "[what]\nfolders = [\"/srv\"]\nskip-larger = \"5 MiB\"\nskip-smaller = \"6 MiB\"\n",
      "[what]\nfolders = [\"/srv\"]\nskip-larger = \"5\"\n",
      "[what]\nfolders = [\"/srv\"]\nskip-older = \"5\"\n",
      "[what]\nfolders = [\"/srv\"]\nskip = [\"!\"]\n",
      "[what]\nfolders = [\"/srv\"]\n[tell]\nmail = \"office\"\n",
      "[what]\nfolders = [\"/srv\"]\n[keep]\ndrive-limit = \"85\"\n",
      "[what]\nfolders = [\"/srv\"]\n[protect]\nencryption = \"none\"\nrecovery-key = \"/x.pub\"\n",
  };
  for (const char* text : wrong) EXPECT_THROW(parse_job("x", "x.toml", text + where), Error) << text;
  for (const char* place : {"label:", "label:/x", "uuid:", "label:tern-1/../x", "tern-1"})
    EXPECT_THROW(
        parse_job("x", "x.toml",
                  std::string("[what]\nfolders = [\"/srv\"]\n[where]\ndestinations = [\"") + place + "\"]\n"),
        Error)
        << place;
}

}  // namespace
}  // namespace kestrum::test
