// What is shown fits the screen: its width, its letters, and a reader that goes away early.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;
using testing::HasSubstr;
using testing::Not;

std::size_t letters(const std::string& text) {
  return static_cast<std::size_t>(std::count_if(
      text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

class Screens : public testing::Test {
 protected:
  Screens() {
    for (int i = 0; i < 5; ++i)
      write_file(desk_.source() + "/resumé-" + std::to_string(i), std::string(5000, 'x'));
    EXPECT_EQ(desk_
                  .define({"--when-runs", "daily at 20:30", "--keep-thin", "every point for 14 days",
                           "--keep-thin", "one a week for 2 months", "--keep-drive-limit", "85%"})
                  .exit,
              0);
    for (int day = 1; day <= 9; ++day) {
      desk_.program.environment["KESTRUM_NOW"] = "2027-03-0" + std::to_string(day) + "T20:30:00Z";
      write_file(desk_.source() + "/resumé-1", std::string(static_cast<std::size_t>(day * 700), 'y'));
      EXPECT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
    }
  }
  // Every verb whose page has no names in it that are longer than a line.
  std::vector<std::vector<std::string>> pages() const {
    return {{"points", "wardens"},         {"status"},
            {"history", "wardens"},        {"history", "wardens", "--run", "3"},
            {"prune", "wardens", "--dry"}, {"forecast", "wardens", "--days", "7"},
            {"verify", "wardens"},         {"job", "list"},
            {"job", "show", "wardens"},    {"preview", "wardens"},
            {"keep", "wardens"},           {"help"},
            {"help", "restore"},           {"help", "job", "define"},
            {"help", "categories"},        {"help", "patterns"},
            {"help", "usual-list"}};
  }
  // Of words; paths are not broken, and a command that is to be copied stays whole.
  static void expect_fits(const std::string& page, std::size_t width, const std::string& what) {
    std::istringstream lines(page);
    for (std::string line; std::getline(lines, line);) {
      const bool long_name = line.find("/kestrum-test-") != std::string::npos;
      const bool command = line.find("kestrum ") != std::string::npos;
      if (long_name || command) continue;
      EXPECT_LE(letters(line), width) << what << ": " << line;
    }
  }
  Desk desk_;
};

TEST_F(Screens, FitTheWidthThatIsThere) {
  for (std::size_t width : {80U, 120U}) {
    desk_.program.environment["COLUMNS"] = std::to_string(width);
    for (const std::vector<std::string>& words : pages()) {
      Ran ran = desk_(words);
      EXPECT_LE(ran.exit, 1) << words[0] << ran.err;
      std::string name;
      for (const std::string& word : words) name += word + " ";
      expect_fits(ran.out, width, name);
      expect_fits(ran.err, width, name);
    }
  }
  // HEALTH stands early, and what is least needed goes first.
  desk_.program.environment["COLUMNS"] = "80";
  const std::string narrow = desk_({"points", "wardens"}).out;
  EXPECT_LT(narrow.find("HEALTH"), narrow.find("KIND"));
  EXPECT_THAT(narrow, Not(HasSubstr("PROPORTION")));
  EXPECT_THAT(narrow, HasSubstr("STORED"));
  desk_.program.environment["COLUMNS"] = "140";
  EXPECT_THAT(desk_({"points", "wardens"}).out, HasSubstr("PROPORTION"));
  // A terminal tells its width itself.
  desk_.program.environment.erase("COLUMNS");
  expect_fits(desk_.program.run_on_terminal({"points", "wardens"}).out, 101, "terminal");
}

TEST_F(Screens, PlainLettersWhereTheLocaleHasNoOthers) {
  for (const char* locale : {"C", "POSIX", "en_GB.ISO-8859-1"}) {
    desk_.program.environment["LC_ALL"] = locale;
    std::vector<std::vector<std::string>> all = pages();
    all.push_back({"browse", "wardens", desk_.source()});
    for (const std::vector<std::string>& words : all) {
      Ran ran = desk_(words);
      for (char c : ran.out + ran.err) ASSERT_GE(c, '\0') << words[0] << " in " << locale << "\n" << ran.out;
    }
    // A name comes back as it was printed.
    EXPECT_THAT(desk_({"browse", "wardens", desk_.source()}).out, HasSubstr("resum\\xc3\\xa9-1"));
    EXPECT_EQ(desk_({"browse", "wardens", desk_.source() + "/resum\\xc3\\xa9-1"}).exit, 0);
    // JSON is UTF-8 anywhere.
    EXPECT_THAT(desk_({"browse", "wardens", desk_.source(), "--json"}).out, HasSubstr("resumé-1"));
  }
  desk_.program.environment["LC_ALL"] = "de_DE.utf8";
  EXPECT_THAT(desk_({"browse", "wardens", desk_.source()}).out, HasSubstr("resumé-1"));
}

TEST_F(Screens, AReaderWhoGoesAwayIsNoFailure) {
  for (int i = 0; i < 4000; ++i) write_file(desk_.source() + "/many/" + std::to_string(i), "x");
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  const std::string command = "KESTRUM_HOME='" + (desk_.folder / "home") +
                              "' KESTRUM_MACHINE=skerry-1 bash -c '" + KESTRUM_BINARY + " browse wardens \"" +
                              desk_.source() + "/many\" | head -1; exit ${PIPESTATUS[0]}' > '" +
                              (desk_.folder / "out") + "' 2> '" + (desk_.folder / "err") + "'";
  EXPECT_EQ(std::system(command.c_str()), 0);
  EXPECT_EQ(read_file(desk_.folder / "err"), "");
}

TEST_F(Screens, SmallCourtesies) {
  EXPECT_EQ(desk_({"-h"}).out, desk_({"help"}).out);
  EXPECT_EQ(desk_({"points", "-h"}).out, desk_({"help", "points"}).out);
  Ran group = desk_({"help", "job"});
  EXPECT_EQ(group.exit, 0);
  EXPECT_THAT(group.out, HasSubstr("job rename"));
  EXPECT_THAT(group.out, Not(HasSubstr("verify")));
  const Json version = Json::parse(desk_({"--version", "--json"}).out);
  EXPECT_EQ(version["kestrum"], "version");
  EXPECT_EQ(version["archive-format"], 1);
  // What one rule of [keep] means for the room is said.
  ASSERT_EQ(desk_({"job", "copy", "wardens", "my moths"}).exit, 0);
  ASSERT_EQ(desk_({"job", "edit", "my moths", "--usual", "keep-drive-limit"}).exit, 0);
  EXPECT_THAT(desk_({"job", "show", "my moths"}).out, HasSubstr("no limit of room: the usual 90%"));
  EXPECT_THAT(desk_({"job", "show", "wardens"}).out, Not(HasSubstr("no limit of room")));
  ASSERT_EQ(desk_({"job", "edit", "my moths", "--usual", "keep-thin"}).exit, 0);
  EXPECT_THAT(desk_({"job", "edit", "my moths", "--keep-points", "5 points"}).out,
              HasSubstr("the usual 90% of the drive holds only where [keep] says nothing"));
  // Commands that are suggested can be copied.
  EXPECT_THAT(desk_({"status", "my moths"}).out, HasSubstr("kestrum run 'my moths'"));
  EXPECT_THAT(desk_({"history", "my moths"}).out, HasSubstr("kestrum run 'my moths'"));
}

TEST_F(Screens, JsonHasWhatTheTextHas) {
  const Json points = Json::parse(desk_({"points", "wardens", "--json"}).out);
  const Json next = points["destinations"][0]["next-run"];
  EXPECT_EQ(next["when"], "2027-03-10T20:30:00Z");
  EXPECT_EQ(next["kind"], "incremental");
  EXPECT_TRUE(next["after-it"].is_array());
  EXPECT_GT(points["destinations"][0]["free-bytes"].get<std::uint64_t>(), 0U);
  const Json job = Json::parse(desk_({"job", "show", "wardens", "--json"}).out)["job"];
  EXPECT_THAT(job["rules-in-force"].dump(), HasSubstr("at most 85% of the drive"));
  const Json run = Json::parse(desk_({"run", "wardens", "--json"}).out)["runs"][0];
  EXPECT_GT(run["free-bytes"].get<std::uint64_t>(), 0U);
}

TEST_F(Screens, AnEncryptedJobWithoutSetsIsNotCalledUnencrypted) {
  for (const auto& entry : fs::directory_iterator(desk_.job_folder()))
    if (entry.is_directory()) fs::remove_all(entry.path());
  Ran points = desk_({"points", "wardens"});
  EXPECT_THAT(points.out, HasSubstr("(encrypted)"));
}

TEST_F(Screens, ExitCodesAreThoseOfTheDocument) {
  // A preview that finds nothing, one whose drive is read-only, one that does not fit.
  fs::create_directories(desk_.folder / "empty");
  ASSERT_EQ(desk_({"job", "copy", "wardens", "empty"}).exit, 0);
  ASSERT_EQ(desk_({"job", "edit", "empty", "--what-folders", desk_.folder / "nowhere"}).exit, 0);
  Ran nothing = desk_({"preview", "empty"});
  EXPECT_EQ(nothing.exit, 3) << nothing.out;
  EXPECT_EQ(desk_({"run", "empty"}).exit, 3);
  ASSERT_EQ(desk_({"job", "edit", "empty", "--what-folders", desk_.folder / "empty"}).exit, 0);
  EXPECT_EQ(desk_({"preview", "empty"}).exit, 1);
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount drives";
  const std::string small = desk_.folder / "small";
  Mounted mounted("tmpfs", small, "-t tmpfs -o size=128k");
  ASSERT_TRUE(mounted.good());
  std::string noise;
  for (unsigned x = 1; noise.size() < 300'000; x = x * 1664525 + 1013904223)
    noise += static_cast<char>(x >> 24);
  write_file(desk_.source() + "/noise", noise);
  ASSERT_EQ(desk_({"job", "copy", "wardens", "small"}).exit, 0);
  ASSERT_EQ(desk_({"job", "edit", "small", "--where-destinations", small}).exit, 0);
  Ran full = desk_({"preview", "small"});
  EXPECT_EQ(full.exit, 9) << full.out;
  EXPECT_EQ(Json::parse(desk_({"preview", "small", "--json"}).out)["would-end-with"], 9);
  EXPECT_EQ(desk_({"run", "small"}).exit, 9);
  ASSERT_EQ(std::system(("mount -o remount,ro '" + small + "'").c_str()), 0);
  EXPECT_EQ(desk_({"preview", "small"}).exit, 5);
  EXPECT_EQ(desk_({"run", "small"}).exit, 5);
}

}  // namespace
}  // namespace kestrum::test
