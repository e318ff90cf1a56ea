// Bringing files back as people do it under pressure: look, choose, take, hand over, and look with other
// programs.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>

#include <nlohmann/json.hpp>
#include <thread>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;
using testing::HasSubstr;
using testing::Not;

class GettingBack : public testing::Test {
 protected:
  GettingBack() {
    write_file(list(), "heron,3\ngull,14\nauk,2\n");
    write_file(desk_.source() + "/tracks/walk.gpx", noise(3, 50000));
    EXPECT_EQ(desk_.define({"--how-kind", "incremental"}, false).exit, 0);
    run_on("2027-03-08");
    write_file(list(), "heron,3\ngull,15\nauk,2\nskua,1\n");
    run_on("2027-03-09");
    fs::rename(desk_.source() + "/lists", desk_.source() + "/archive");
    run_on("2027-03-10");
    fs::remove_all(desk_.source() + "/archive");
    run_on("2027-03-11");
    day("2027-03-16T12:00:00Z");
  }
  ~GettingBack() override { umount2((desk_.folder / "on").c_str(), MNT_DETACH); }
  std::string list() const { return desk_.source() + "/lists/budget.csv"; }
  void day(const std::string& moment) { desk_.program.environment["KESTRUM_NOW"] = moment; }
  void run_on(const std::string& date) {
    day(date + "T20:30:00Z");
    ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  }
  Ran restore(std::vector<std::string> more) {
    more.insert(more.begin(), {"restore", "wardens"});
    return desk_(more);
  }
  std::string to(const std::string& name) const { return desk_.folder / name; }
  Desk desk_;
};

TEST_F(GettingBack, VersionsThroughNamesAndWhatBecameOfThem) {
  const Ran by_half_a_name = desk_({"versions", "wardens", "budg"});
  EXPECT_EQ(by_half_a_name.exit, 0) << by_half_a_name.err;
  EXPECT_THAT(by_half_a_name.out, HasSubstr("/archive/budget.csv\n"));
  EXPECT_THAT(by_half_a_name.out, HasSubstr("gone since Thu 2027-03-11"));
  EXPECT_THAT(by_half_a_name.out, HasSubstr("Before that its name was\n"));
  EXPECT_THAT(by_half_a_name.out, HasSubstr("changed by Tue 2027-03-09"));
  EXPECT_THAT(by_half_a_name.out,
              HasSubstr("moved to " + desk_.source() + "/archive/budget.csv by Wed 2027-03-10"));
  EXPECT_THAT(by_half_a_name.out, HasSubstr("On the disk now: none."));
  EXPECT_THAT(by_half_a_name.out,
              HasSubstr("kestrum restore wardens " + desk_.source() + "/archive/budget.csv --at 3 --to ."));
  const Json json = Json::parse(desk_({"versions", "wardens", list(), "--json"}).out);
  EXPECT_EQ(json["files"][0]["names"][0]["moved-to"], desk_.source() + "/archive/budget.csv");
  EXPECT_EQ(json["points-looked-through"], 4);
  // Nobody has that name; another point has one that is near.
  EXPECT_THAT(restore({desk_.source() + "/lists/budgte.csv", "--to", to("x")}).err,
              HasSubstr("did you mean, of another point, " + list()));
  EXPECT_THAT(desk_({"browse", "wardens", "/", "--at", "1", "--deep"}).out, HasSubstr("lists/budget.csv"));
  EXPECT_THAT(desk_({"versions", "wardens", "no-such"}).out,
              HasSubstr("Nothing in any point is called 'no-such'"));
}

TEST_F(GettingBack, FindBySizeDateTypeAndExpression) {
  const auto hits = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"find", "wardens"});
    words.emplace_back("--json");
    const Ran ran = desk_(words);
    EXPECT_EQ(ran.exit, 0) << ran.out;
    return Json::parse(ran.out)["versions"].size();
  };
  EXPECT_EQ(hits({"*", "--type", "file"}), 4u);
  EXPECT_EQ(hits({"*", "--larger", "40 KiB"}), 1u);
  EXPECT_EQ(hits({"*", "--smaller", "1 KiB", "--type", "file"}), 3u);
  EXPECT_EQ(hits({"*", "--type", "folder", "--all"}), hits({"*", "--type", "folder"}));
  EXPECT_EQ(hits({"b[a-z]+t\\.csv$", "--regex"}), 3u);
  EXPECT_EQ(hits({"*", "--until", "2001-01-01"}), 0u);
  EXPECT_EQ(Json::parse(desk_({"find", "wardens", "walk", "--json"}).out)["versions"][0]["today"], "same");
  EXPECT_THAT(desk_({"find", "wardens", "budget"}).out, HasSubstr("not on the disk now"));
  for (const std::vector<std::string>& bad :
       std::vector<std::vector<std::string>>{{"a(b", "--regex"},
                                             {"x", "--larger", "5"},
                                             {"x", "--since", "soon"},
                                             {"x", "--all", "--at", "1"}}) {
    std::vector<std::string> words{"find", "wardens"};
    words.insert(words.end(), bad.begin(), bad.end());
    EXPECT_EQ(desk_(words).exit, 2) << bad[0];
  }
}

TEST_F(GettingBack, ComparedWithAnotherPointAndWithTheDisk) {
  const Ran points = desk_({"compare", "wardens", "--at", "2", "--with", "3"});
  EXPECT_EQ(points.exit, 0) << points.err;
  EXPECT_THAT(points.out, HasSubstr("/lists/ -> " + desk_.source() + "/archive/  (with 1 file)"));
  EXPECT_THAT(points.out, Not(HasSubstr("budget.csv")));
  const Ran disk = desk_({"compare", "wardens", desk_.source(), "--at", "1"});
  EXPECT_THAT(disk.out, HasSubstr("to the disk now"));
  EXPECT_THAT(disk.out, HasSubstr("Files: 1 gone"));
  const Ran lines = desk_({"compare", "wardens", list(), "--at", "1", "--with", "2"});
  EXPECT_THAT(lines.out, HasSubstr("2 - gull,14\n       2 + gull,15\n"));
  EXPECT_THAT(lines.out, HasSubstr("SHA-256 "));
  EXPECT_EQ(
      Json::parse(desk_({"compare", "wardens", "--at", "2", "--with", "3", "--json"}).out)["files"]["moved"],
      1);
  EXPECT_EQ(desk_({"compare", "wardens", "/no/such", "--at", "2"}).exit, 2);
  // Of another machine the disk is not known.
  desk_.program.environment["KESTRUM_MACHINE"] = "skerry-9";
  EXPECT_EQ(desk_({"compare", desk_.drive(), "--at", "1"}).exit, 2);
}

TEST_F(GettingBack, BrowseSumsSortsAndMarks) {
  const Ran listing = desk_({"browse", "wardens", desk_.source(), "--at", "1", "--sort", "size"});
  EXPECT_EQ(listing.exit, 0) << listing.err;
  EXPECT_LT(listing.out.find("tracks/"), listing.out.find("lists/"));
  EXPECT_THAT(listing.out, HasSubstr("lists/  (gone today)"));
  EXPECT_THAT(listing.out, HasSubstr("48.8 KiB"));
  write_file(desk_.source() + "/tracks/walk.gpx", "other");
  EXPECT_THAT(desk_({"browse", "wardens", desk_.source() + "/tracks", "--at", "1"}).out,
              HasSubstr("(different today)"));
}

TEST_F(GettingBack, IntoOneFileAndToStandardOutput) {
  const Ran zip = restore({desk_.source(), "--at", "2", "--into", to("all.zip"), "--list", to("all.csv")});
  EXPECT_EQ(zip.exit, 0) << zip.err;
  EXPECT_THAT(zip.out, HasSubstr("into " + to("all.zip") + ", a file of "));
  EXPECT_EQ(std::system(("/usr/bin/python3 -m zipfile -t '" + to("all.zip") + "' > /dev/null").c_str()), 0);
  const std::string csv = read_file(to("all.csv"));
  EXPECT_THAT(csv, HasSubstr("fate,bytes,sha256,point,path,placed\r\n"));
  EXPECT_THAT(csv, HasSubstr(",2," + list() + ",source/lists/budget.csv\r\n"));
  EXPECT_EQ(restore({list(), "--at", "1", "--into", "-"}).out, "heron,3\ngull,14\nauk,2\n");
  EXPECT_EQ(restore({desk_.source(), "--at", "1", "--into", "-"}).exit, 2);
  EXPECT_EQ(restore({list(), "--at", "1", "--into", to("all.zip")}).exit, 2) << "it is there";
  EXPECT_EQ(restore({list(), "--at", "1", "--into", to("all.rar")}).exit, 2);
  EXPECT_EQ(restore({list(), "--at", "1", "--into", to("x.zip"), "--to", to("x")}).exit, 2);
  EXPECT_EQ(restore({list(), "--at", "1", "--into", to("x.zip"), "--clash", "replace"}).exit, 2);
  EXPECT_EQ(restore({list(), "--at", "1", "--to", to("x"), "--list", to("x.txt")}).exit, 2);
  EXPECT_FALSE(fs::exists(to("x.zip")));
  // A dry one makes nothing.
  EXPECT_THAT(restore({list(), "--at", "1", "--into", to("y.zip"), "--dry"}).out, HasSubstr("Would restore"));
  EXPECT_FALSE(fs::exists(to("y.zip")));
}

TEST_F(GettingBack, ATargetThatBecomesFullHoldsNoHalfFile) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount drives";
  Mounted small("tmpfs", to("stick"), "-t tmpfs -o size=32k");
  ASSERT_TRUE(small.good());
  const Ran full =
      restore({desk_.source(), "--at", "1", "--into", to("stick/all.tar.zst"), "--list", to("all.csv")});
  EXPECT_EQ(full.exit, 9) << full.err;
  EXPECT_THAT(full.err, HasSubstr("nothing was made of it"));
  EXPECT_THAT(full.out, Not(HasSubstr("budget.csv")));
  EXPECT_TRUE(fs::is_empty(to("stick")));
  EXPECT_FALSE(fs::exists(to("all.csv"))) << "it would name what is not there";
  EXPECT_TRUE(Json::parse(desk_({"history", "--restores", "--json"}).out)["restores"].empty());
}

TEST_F(GettingBack, ATargetThatTakesNothingOrNotAllOfIt) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount drives";
  Mounted closed("tmpfs", to("closed"), "-t tmpfs -o ro");
  ASSERT_TRUE(closed.good());
  for (const char* where : {"--to", "--into"}) {
    const Ran ran = restore({desk_.source(), "--at", "1", where, to("closed/back.zip")});
    EXPECT_EQ(ran.exit, 3) << where;
    EXPECT_THAT(ran.err, HasSubstr("Read-only file system"));
  }
  const Ran listed = restore({list(), "--at", "1", "--to", to("back"), "--list", to("closed/list.csv")});
  EXPECT_EQ(listed.exit, 3);
  EXPECT_FALSE(fs::exists(to("back"))) << "whoever wants a list of it gets both or nothing";
  // A stick with FAT's rules: no file there is larger than it takes, and names are as it holds them.
  fs::create_directories(to("backing"));
  FatRules stick(to("backing"), to("stick"), "20000");
  ASSERT_TRUE(stick.mounted());
  const Ran large = restore({desk_.source(), "--at", "1", "--into", stick.path("all.zip")});
  EXPECT_EQ(large.exit, 3) << large.err;
  EXPECT_THAT(large.err, HasSubstr("nothing was made of it"));
  EXPECT_TRUE(fs::is_empty(stick.folder()));
  EXPECT_EQ(restore({list(), "--at", "1", "--into", stick.path("all.zip")}).exit, 0);
  restore({list(), "--at", "1", "--to", stick.path("back"), "--list", stick.path("list.csv")});
  EXPECT_EQ(read_file(stick.path("back/budget.csv")), "heron,3\ngull,14\nauk,2\n");
  EXPECT_THAT(read_file(stick.path("list.csv")), HasSubstr("budget.csv"));
}

TEST_F(GettingBack, OtherUsersOtherPlaces) {
  const std::string there = to("home/a.berg");
  EXPECT_EQ(restore({desk_.source(), "--at", "1", "--in-place", "--map", desk_.source() + "=" + there}).exit,
            0);
  EXPECT_EQ(read_file(there + "/lists/budget.csv"), "heron,3\ngull,14\nauk,2\n");
  EXPECT_FALSE(fs::exists(list()));
  EXPECT_EQ(restore({list(), "--at", "1", "--to", to("x"), "--map", "/a=/b"}).exit, 2)
      << "no whole paths there";
  EXPECT_EQ(restore({list(), "--at", "1", "--in-place", "--map", "a=b"}).exit, 2);
  EXPECT_EQ(restore({list(), "--at", "1", "--to", desk_.drive() + "/x"}).exit, 2);
  EXPECT_EQ(restore({list(), "--at", "1", "--to", to("x"), "--owners", "number", "--owner", "root"}).exit, 2);
}

TEST_F(GettingBack, TheLedgerRemembersWhatWasRestored) {
  restore({list(), "--at", "1", "--to", to("back")});
  restore({list(), "--at", "1", "--to", to("back"), "--dry"});
  const Json json = Json::parse(desk_({"history", "wardens", "--restores", "--json"}).out);
  ASSERT_EQ(json["restores"].size(), 1u);
  EXPECT_EQ(json["restores"][0]["point"], 1);
  EXPECT_EQ(json["restores"][0]["files"], 1);
  EXPECT_EQ(json["restores"][0]["to"], to("back"));
  EXPECT_THAT(desk_({"history", "--restores"}).out, HasSubstr(to("back")));
}

TEST_F(GettingBack, NearestIsSaidAndTaken) {
  fs::remove_all(desk_.set_folder(2));
  const Ran asked = restore({list(), "--at", "2", "--to", to("back")});
  EXPECT_EQ(asked.exit, 2);
  EXPECT_THAT(asked.err, HasSubstr("the nearest good ones: point 1 ("));
  const Ran taken = restore({list(), "--at", "2", "--to", to("back"), "--nearest"});
  EXPECT_EQ(taken.exit, 0) << taken.err;
  EXPECT_THAT(taken.err, HasSubstr("there is no point 2; the nearest point that opens is taken: point 1"));
  EXPECT_EQ(read_file(to("back/budget.csv")), "heron,3\ngull,14\nauk,2\n");
}

TEST_F(GettingBack, OpenShowsPointsAsFolders) {
  const std::string on = to("on");
  fs::create_directories(on);
  const Ran all = desk_({"open", "wardens", "--on", on});
  ASSERT_EQ(all.exit, 0) << all.err;
  EXPECT_THAT(all.out, HasSubstr("4 points, a folder each"));
  EXPECT_EQ(read_file(on + "/2027-03-09 20-30 point 2" + list()), "heron,3\ngull,15\nauk,2\nskua,1\n");
  EXPECT_FALSE(fs::exists(on + "/2027-03-11 20-30 point 4" + list()));
  EXPECT_EQ(open((on + "/2027-03-09 20-30 point 2" + list()).c_str(), O_RDWR), -1);
  EXPECT_EQ(errno, EROFS);
  EXPECT_EQ(desk_({"open", "wardens", "--on", on}).exit, 2) << "not empty";
  // Somebody looks.
  {
    const int held = open((on + "/2027-03-09 20-30 point 2" + list()).c_str(), O_RDONLY);
    ASSERT_GE(held, 0);
    EXPECT_EQ(desk_({"open", "--close", on}).exit, 6);
    close(held);
  }
  EXPECT_EQ(desk_({"open", "--close", on}).exit, 0);
  EXPECT_EQ(desk_({"open", "--close", on}).exit, 2);
  EXPECT_TRUE(fs::is_empty(on));
  EXPECT_EQ(desk_({"open", "wardens", "--at", "99", "--on", on}).exit, 2);
  EXPECT_EQ(desk_({"open", "wardens", "--on", to("no/such")}).exit, 2);
}

TEST_F(GettingBack, AnOpenPointIsTheTreeAsItWas) {
  TreeMaker maker(desk_.source(), 5);
  maker.grow(100);
  run_on("2027-03-17");
  const std::string on = to("on");
  fs::create_directories(on);
  const pid_t front = desk_.program.start({"open", "wardens", "--at", "latest", "--on", on, "--wait"});
  const auto shown = [&] { return fs::exists(on + desk_.source()); };
  for (int i = 0; i < 200 && !shown(); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(50));
  ASSERT_TRUE(shown());
  Snapshot expected = take_snapshot(desk_.source()), found = take_snapshot(on + desk_.source());
  // It shows neither rights nor extended attributes, and nothing that can be written.
  for (Snapshot* one : {&expected, &found}) {
    for (auto& [path, what] : *one) {
      what.mode &= 0555;
      what.attributes.clear();
      what.links = 1;
    }
  }
  EXPECT_EQ(compare_snapshots(expected, found), "");
  kill(front, SIGTERM);
  EXPECT_EQ(Program::wait(front), 0);
  EXPECT_TRUE(fs::is_empty(on));
}

// Damage shows as an error of reading, never as other bytes.
TEST_F(GettingBack, NothingUnprovedIsHandedOut) {
  const std::string on = to("on"), walk = on + desk_.source() + "/tracks/walk.gpx";
  fs::create_directories(on);
  for (const auto& entry : fs::directory_iterator(desk_.set_folder(1))) {
    if (entry.path().extension() != ".kvol") continue;
    std::string content = read_file(entry.path());
    for (std::size_t at = 2000; at < 20000; ++at) content[at] = '\x55';
    write_file(entry.path(), content);
  }
  const pid_t front = desk_.program.start({"open", "wardens", "--at", "latest", "--on", on, "--wait"});
  for (int i = 0; i < 200 && !fs::exists(walk); ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  const int file = open(walk.c_str(), O_RDONLY);
  ASSERT_GE(file, 0);
  char byte = 0;
  EXPECT_EQ(read(file, &byte, 1), -1);
  EXPECT_EQ(errno, EIO);
  close(file);
  kill(front, SIGINT);
  Program::wait(front);
}

}  // namespace
}  // namespace kestrum::test
