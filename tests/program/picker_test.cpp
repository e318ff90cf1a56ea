// Choosing by keys on a terminal: what to restore, and what a job leaves out.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <cstring>

#include "program/desk.hpp"
#include "support/mounts.hpp"
#include "support/terminal.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::Not;

class Picker : public testing::Test {
 protected:
  Picker() {
    desk_.program.environment["LC_ALL"] = "C.UTF-8";
    write_file(desk_.source() + "/ringing/2027.csv", "SP1,Arctic Tern\n");
    write_file(desk_.source() + "/ringing/budget.csv", "nets,120\n");
    write_file(desk_.source() + "/moths/trap-1.csv", "Garden Tiger,4\n");
    write_file(desk_.source() + "/moths/trap-2.csv", "Garden Tiger,6\n");
    EXPECT_EQ(desk_.define().exit, 0);
    run("2027-03-08T20:30:00Z");
    write_file(desk_.source() + "/ringing/2027.csv", "SP1,Arctic Tern\nSP2,Arctic Tern\n");
    fs::remove(desk_.source() + "/ringing/budget.csv");
    run("2027-03-09T20:30:00Z");
    write_file(desk_.source() + "/moths/trap-3.csv", "Emperor Moth,1\n");
    run("2027-03-10T20:30:00Z");
    desk_.program.environment["KESTRUM_NOW"] = "2027-03-11T09:00:00Z";
  }
  void run(const char* when) {
    desk_.program.environment["KESTRUM_NOW"] = when;
    EXPECT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  }
  std::string target() const { return desk_.folder / "back"; }
  // The command that was printed.
  static std::vector<std::string> command_of(const Ran& ran, const std::string& verb) {
    const std::size_t at = ran.out.rfind("kestrum " + verb + " ");
    EXPECT_NE(at, std::string::npos) << ran.out;
    if (at == std::string::npos) return {};
    std::string line = ran.out.substr(at + 8);
    line = line.substr(0, line.find_first_of("\r\n"));
    std::vector<std::string> words(1);
    for (const char letter : line) {
      if (letter == ' ') {
        words.emplace_back();
      } else if (letter != '\'') {
        words.back() += letter;
      }
    }
    return words;
  }
  Desk desk_;
};

TEST_F(Picker, ThereAndBackAndTheSameAsTheCommand) {
  Terminal terminal(desk_.program, {"restore", "wardens", "--to", target()});
  EXPECT_THAT(terminal.page("That day: 1 new: trap-3.csv"), HasSubstr("Wed 2027-03-10 20:30"));
  terminal.press(key_down);
  EXPECT_THAT(terminal.page("That day: 1 changed, 1 gone"), HasSubstr("Tue 2027-03-09 20:30"));
  terminal.press(key_down);
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("ringing/"), HasSubstr("point 1, Mon 2027-03-08 20:30, full"));
  terminal.press("  ");  // moths, ringing
  EXPECT_THAT(terminal.page("Chosen: 6 files and folders, 55 B"), HasSubstr("[x] moths/"));
  terminal.press(key_enter);  // into ringing
  EXPECT_THAT(terminal.page("budget.csv"), HasSubstr("[x] 2027.csv"));
  terminal.press(" ");  // 2027.csv out again
  EXPECT_THAT(terminal.page("Chosen: 5 files and folders, 39 B"), HasSubstr("[ ] 2027.csv"));
  terminal.press(key_left);
  EXPECT_THAT(terminal.page("[~] ringing/"), HasSubstr("[x] moths/"));
  terminal.press("r");
  EXPECT_THAT(terminal.page("Where to?"), HasSubstr(target()));
  terminal.press(key_escape);
  EXPECT_THAT(terminal.page("[~] ringing/"), HasSubstr("Chosen: 5"));
  terminal.press("r");
  terminal.page("Where to?");
  terminal.press(key_end);
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("Nothing is written yet"), HasSubstr("Would restore from point 1"));
  EXPECT_FALSE(fs::exists(target()));
  terminal.press(key_enter);
  const Ran ran = terminal.end();
  EXPECT_EQ(ran.exit, 0) << ran.out;
  EXPECT_THAT(ran.out, HasSubstr("Restored from point 1"));
  EXPECT_EQ(read_file(target() + "/ringing/budget.csv"), "nets,120\n");
  EXPECT_EQ(read_file(target() + "/moths/trap-2.csv"), "Garden Tiger,6\n");
  EXPECT_FALSE(fs::exists(target() + "/ringing/2027.csv"));
  // The command that it printed does the same.
  const std::string other = desk_.folder / "picked";
  fs::rename(target(), other);
  const Ran again = desk_(command_of(ran, "restore"));
  EXPECT_EQ(again.exit, 0) << again.err;
  for (const char* folder : {"/ringing", "/moths"})
    EXPECT_EQ(compare_snapshots(take_snapshot(other + folder), take_snapshot(target() + folder)), "");
}

// To a drive that takes nothing, to one that becomes full, and to one with FAT's rules.
TEST_F(Picker, IntoPlacesThatDoNotTakeIt) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount drives";
  write_file(desk_.source() + "/moths/21:15 at the lamp.csv", "Heath Rustic,2\n");
  for (unsigned i = 0; i < 40; ++i)
    write_file(desk_.source() + "/sounds/" + std::to_string(i) + ".wav", noise(i, 30000));
  run("2027-03-11T20:30:00Z");
  const auto take_all = [&](const std::string& to) {
    Terminal terminal(desk_.program, {"restore", "wardens", "--at", "4", "--to", to});
    terminal.page("sounds/");
    terminal.press("\033OH");  // all of it
    terminal.press(" r");
    terminal.page("Where to?");
    terminal.press(key_end);
    terminal.press(key_enter);
    terminal.page("restore now");
    terminal.press(key_enter);
    return terminal.end();
  };
  const auto expect_whole_files = [&](const std::string& to) {
    int files = 0;
    for (const auto& one : fs::recursive_directory_iterator(to)) {
      if (!one.is_regular_file()) continue;
      ++files;
      const std::string saved = desk_.source() + "/" + fs::relative(one.path(), to + "/source").string();
      EXPECT_EQ(read_file(one.path()), fs::exists(saved) ? read_file(saved) : "?") << one.path();
    }
    return files;
  };
  Mounted closed("tmpfs", desk_.folder / "closed", "-t tmpfs -o ro");
  ASSERT_TRUE(closed.good());
  const Ran refused = take_all(desk_.folder / "closed");
  EXPECT_EQ(refused.exit, 3) << refused.out;
  EXPECT_THAT(refused.out, HasSubstr("Read-only file system"));

  Mounted small("tmpfs", desk_.folder / "small", "-t tmpfs -o size=700k");
  ASSERT_TRUE(small.good());
  const Ran full = take_all(desk_.folder / "small");
  EXPECT_EQ(full.exit, 9) << full.out;
  EXPECT_LT(expect_whole_files(desk_.folder / "small"), 40);

  fs::create_directories(desk_.folder / "backing");
  FatRules stick(desk_.folder / "backing", desk_.folder / "stick");
  ASSERT_TRUE(stick.mounted());
  const Ran named = take_all(stick.folder());
  EXPECT_EQ(named.exit, 1) << named.out;
  EXPECT_THAT(named.out, HasSubstr("cannot hold its name; it is in"));
  EXPECT_EQ(read_file(stick.path("source/moths/21_15 at the lamp.csv")), "Heath Rustic,2\n");
  EXPECT_EQ(read_file(stick.path("source/sounds/39.wav")), noise(39, 30000));
}

TEST_F(Picker, ASearchLeadsToTheDayThatHasIt) {
  Terminal terminal(desk_.program, {"restore", "wardens"});
  terminal.page("That day");
  terminal.press(key_enter);
  terminal.page("moths/");
  terminal.press("/budget\r");
  EXPECT_THAT(terminal.page("0 hits, in this point"), Not(HasSubstr("budget.csv  in")));
  terminal.press("a");
  EXPECT_THAT(terminal.page("1 hit, in all points"), HasSubstr("9 B, gone since Tue 2027-03-09"));
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("point 1, Mon 2027-03-08"), HasSubstr("[ ] budget.csv"));
  terminal.press("v");
  EXPECT_THAT(terminal.page("Versions of"), HasSubstr("point 1"));
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("Chosen: 1 file or folder, 9 B"), HasSubstr("[x] budget.csv"));
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("nets,120"), HasSubstr("budget.csv"));
  terminal.press(key_escape);
  terminal.page("Chosen: 1");
  // A day that does not have it: it is said, and nothing is chosen any more.
  terminal.press("d");
  terminal.page("from which day?");
  terminal.press(key_up);
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("not chosen any more"), HasSubstr("budget.csv"));
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("Nothing is chosen yet"), HasSubstr("point 2"));
  terminal.press("r");
  EXPECT_THAT(terminal.page("Space chooses"), Not(HasSubstr("Where to?")));
  terminal.press(key_enter);
  terminal.page("Nothing is chosen yet");
  terminal.press("q");
  const Ran ran = terminal.end();
  EXPECT_EQ(ran.exit, 11);
  EXPECT_THAT(ran.out, HasSubstr("left; nothing was restored"));
}

TEST_F(Picker, ANewestPointThatDoesNotOpenLeavesTheOtherDays) {
  const std::string index = desk_.set_folder(3) + "/index.kidx";
  std::string content = read_file(index);
  for (std::size_t at = 96; at < content.size(); ++at) content[at] ^= 0x55;
  write_file(index, content);
  EXPECT_EQ(desk_({"restore", "wardens", desk_.source(), "--to", target(), "--quiet"}).exit, 4);
  Terminal terminal(desk_.program, {"restore", "wardens", "--to", target()});
  terminal.page("from which day?");
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("Enter or Esc goes on"), HasSubstr("That day does not open, another one may"));
  terminal.press(key_enter);
  terminal.page("from which day?");
  terminal.press(key_down);
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("Space: choose"), HasSubstr("point 2, Tue 2027-03-09"));
  terminal.press("q");
  EXPECT_EQ(terminal.end().exit, 11);
}

TEST_F(Picker, ASearchSaysThatAPartDoesNotRead) {
  for (int i = 0; i < 16000; ++i)
    write_file(
        desk_.source() + "/counts/" + std::to_string(i / 100) + "/a rather long name " + std::to_string(i),
        "1");
  run("2027-03-11T20:30:00Z");
  ASSERT_TRUE(desk_.spoil_list(4, "/counts/0/a rather", "ringing/2027.csv"));
  Terminal terminal(desk_.program, {"restore", "wardens", "--at", "4"});
  terminal.page("Space: choose");
  terminal.press("/no such name\r");
  EXPECT_THAT(terminal.page("0 hits, in this point"),
              HasSubstr("Not all of the lists reads: there may be more."));
  terminal.press("a");
  EXPECT_THAT(terminal.page("0 hits, in all points"),
              HasSubstr("Not all of the lists reads: there may be more."));
}

TEST_F(Picker, InPlaceBesideWhatIsThere) {
  write_file(desk_.source() + "/moths/trap-1.csv", "spoilt");
  Terminal terminal(desk_.program, {"restore", "wardens", "--at", "3", "--in-place"});
  terminal.page("moths/");
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("trap-1.csv"), HasSubstr("different"));
  terminal.press(" r");
  EXPECT_THAT(terminal.page("where they were"), HasSubstr("keep both"));
  terminal.press(key_end);
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("restore now"), HasSubstr("1 of them beside a file that is there"));
  terminal.press(key_enter);
  EXPECT_EQ(terminal.end().exit, 0);
  EXPECT_EQ(read_file(desk_.source() + "/moths/trap-1.csv"), "spoilt");
  EXPECT_EQ(read_file(desk_.source() + "/moths/trap-1 (from 2027-03-10 20-30).csv"), "Garden Tiger,4\n");
}

TEST_F(Picker, ResizedAndTooSmall) {
  Terminal tiny(desk_.program, {"restore", "wardens"}, 5, 20);
  const Ran refused = tiny.end();
  EXPECT_EQ(refused.exit, 2);
  EXPECT_THAT(refused.out, HasSubstr("this terminal has 20 columns"));
  Terminal terminal(desk_.program, {"restore", "wardens"});
  terminal.page("from which day?");
  terminal.press(key_enter);
  terminal.page("moths/");
  terminal.resize(5, 20);
  EXPECT_THAT(terminal.page("too small"), Not(HasSubstr("moths")));
  terminal.resize(30, 120);
  EXPECT_THAT(terminal.page("moths/"), HasSubstr("r: restore"));
  terminal.press("\003");
  const Ran ran = terminal.end();
  EXPECT_EQ(ran.exit, 11);
  EXPECT_THAT(ran.out, HasSubstr("\033[?1049l")) << "the terminal is as it was before";
}

TEST_F(Picker, ASignalLeavesTheTerminalAsItWas) {
  Terminal terminal(desk_.program, {"restore", "wardens"});
  terminal.page("from which day?");
  kill(terminal.pid(), SIGTERM);
  const Ran ran = terminal.end();
  EXPECT_EQ(ran.exit, 11);
  EXPECT_THAT(ran.out, HasSubstr("\033[?1049l"));
}

TEST_F(Picker, NamesThatNoTerminalShows) {
  write_file(desk_.source() + "/Lumme \xc3\xa5.txt", "x");
  write_file(desk_.source() + "/bad\xff\n\033[31m.txt", "y");
  run("2027-03-11T20:30:00Z");
  Terminal letters(desk_.program, {"restore", "wardens", "--at", "latest", "--to", target()});
  EXPECT_THAT(letters.page("Lumme \xc3\xa5.txt"), HasSubstr("bad\\xff\\n\\x1b[31m.txt"));
  letters.press("q");
  EXPECT_EQ(letters.end().exit, 11);
  desk_.program.environment["LC_ALL"] = "C";
  Terminal plain(desk_.program, {"restore", "wardens", "--at", "latest", "--to", target()});
  EXPECT_THAT(plain.page("Lumme \\xc3\\xa5.txt"), Not(HasSubstr("\xc3\xa5")));
  plain.press(" ");  // the first: all that is there is below it
  plain.press(key_down);
  plain.press("r");
  plain.page("Where to?");
  plain.press(key_end);
  plain.press(key_enter);
  plain.page("restore now");
  plain.press(key_enter);
  const Ran ran = plain.end();
  EXPECT_EQ(ran.exit, 0) << ran.out;
}

TEST_F(Picker, OnlyOnATerminal) {
  const Ran ran = desk_({"restore", "wardens"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_THAT(ran.err, HasSubstr("say what to restore"));
  EXPECT_EQ(desk_({"preview", "wardens", "--choose"}).exit, 2);
  desk_.program.environment["TERM"] = "no-such-terminal";
  Terminal terminal(desk_.program, {"restore", "wardens"});
  const Ran unknown = terminal.end();
  EXPECT_EQ(unknown.exit, 2);
  EXPECT_THAT(unknown.out, HasSubstr("('no-such-terminal') is not known here"));
}

TEST_F(Picker, WhatAJobLeavesOut) {
  write_file(desk_.source() + "/ringing/odd [1]*.csv", "x");
  write_file(desk_.source() + "/core", std::string(2000, 'c'));
  {
    Terminal terminal(desk_.program, {"preview", "wardens", "--choose", "--quiet"});
    EXPECT_THAT(terminal.page("[x] moths/"), HasSubstr("To be saved: 6 files"));
    terminal.press("w");
    EXPECT_THAT(terminal.page("Nothing was changed yet"), Not(HasSubstr("job edit")));
    terminal.press(key_end);
    terminal.press(key_enter);  // into ringing
    terminal.page("odd [1]*.csv");
    terminal.press(key_end);
    terminal.press(" w");
    EXPECT_THAT(terminal.page("Nothing is written yet"), HasSubstr("kestrum job edit wardens --what-skip"));
    terminal.press(key_enter);
    const Ran ran = terminal.end();
    EXPECT_EQ(ran.exit, 0) << ran.out;
  }
  EXPECT_THAT(desk_({"preview", "wardens", "--why", desk_.source() + "/ringing/odd [1]*.csv"}).out,
              HasSubstr("left out: by [what] skip"));
  EXPECT_THAT(desk_({"preview", "wardens", "--why", desk_.source() + "/ringing/2027.csv"}).out,
              Not(HasSubstr("left out")));
  // And back: the job is as it was.
  Terminal terminal(desk_.program, {"preview", "wardens", "--choose", "--quiet"});
  terminal.page("[~] ringing/");
  terminal.press(key_end);
  terminal.press(key_enter);
  EXPECT_THAT(terminal.page("left out"), HasSubstr("[ ] odd"));
  terminal.press(key_end);
  terminal.press(" w");
  EXPECT_THAT(terminal.page("(nothing)"), HasSubstr("--usual what-skip"));
  terminal.press(key_enter);
  EXPECT_EQ(terminal.end().exit, 0);
  EXPECT_THAT(desk_({"preview", "wardens", "--why", desk_.source() + "/ringing/odd [1]*.csv"}).out,
              Not(HasSubstr("left out")));
}

}  // namespace
}  // namespace kestrum::test
