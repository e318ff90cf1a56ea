// The rehearsal: what a run would do, told before it, and compared with what it then does.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <nlohmann/json.hpp>
#include <random>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using testing::HasSubstr;
using testing::Not;

std::string text_of(std::mt19937& random, std::size_t size) {
  const char* const words[] = {"tern", "fulmar", "north", "beach",  "ringed",
                               "2027", "\n",     "east",  "puffin", ";"};
  std::string out;
  while (out.size() < size)
    out += std::string(words[random() % std::size(words)]) + " " + std::to_string(random() % 999);
  return out;
}
std::string noise_of(std::mt19937& random, std::size_t size) {
  std::string out(size, '\0');
  for (char& c : out) c = static_cast<char>(random());
  return out;
}

class Previews : public testing::Test {
 protected:
  json preview(std::vector<std::string> more = {}) {
    more.insert(more.begin(), {"preview", "wardens", "--json"});
    Ran ran = desk_(more);
    EXPECT_EQ(ran.exit, 0) << ran.err;
    return json::parse(ran.out);
  }
  Desk desk_;
};

TEST_F(Previews, TellWhatTheRunThenDoes) {
  std::mt19937 random(3);
  for (int i = 0; i < 40; ++i)
    write_file(desk_.source() + "/lists/" + std::to_string(i), text_of(random, 30000));
  for (int i = 0; i < 4; ++i)
    write_file(desk_.source() + "/sounds/" + std::to_string(i), noise_of(random, 1 << 20));
  write_file(desk_.source() + "/draft.part", "x");
  ASSERT_EQ(desk_.define({"--what-skip", "*.part", "--what-skip", "nothing-like-it"}).exit, 0);
  sleep(4);  // younger files are read again by the next run
  json first = preview();
  EXPECT_EQ(first["new"]["files"], 44);
  EXPECT_EQ(first["kind"], "full");
  EXPECT_EQ(first["top-folders"][0]["path"], desk_.source() + "/sounds");
  EXPECT_EQ(first["left-out"][0]["things"], 1);
  EXPECT_THAT(first["notes"].dump(), HasSubstr("'nothing-like-it' of [what] skip decided about nothing"));
  EXPECT_TRUE(first["drive"]["two-full-sets-fit"]);
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  auto stored = [&] {
    json totals = json::parse(desk_({"history", "wardens", "--json"}).out)["runs"][0]["totals"];
    return totals["stored-bytes"].get<double>();
  };
  double guessed = first["estimate"]["stored-bytes"];
  EXPECT_NEAR(guessed / stored(), 1, 0.15);

  write_file(desk_.source() + "/lists/0", text_of(random, 40000));          // changed
  chmod((desk_.source() + "/lists/1").c_str(), 0600);                       // attributes
  fs::remove(desk_.source() + "/lists/2");                                  // gone
  fs::copy(desk_.source() + "/sounds/0", desk_.source() + "/sounds/copy");  // new, its content held
  json second = preview({"--list", desk_.folder / "list.csv"});
  EXPECT_EQ(second["new"]["files"], 1);
  EXPECT_EQ(second["changed"]["files"], 1);
  EXPECT_EQ(second["attributes"]["files"], 1);
  EXPECT_EQ(second["gone-files"], 1);
  EXPECT_EQ(second["held"]["files"], 41);
  EXPECT_LT(second["estimate"]["stored-bytes"], 60000);  // the copied sound costs nothing
  EXPECT_GT(second["estimate"]["stored-bytes"], 5000);
  std::string list = read_file(desk_.folder / "list.csv");
  EXPECT_THAT(list, HasSubstr("verdict,bytes,category,path,why,pattern\r\n"));
  EXPECT_THAT(list, HasSubstr("gone,"));
  EXPECT_THAT(list, HasSubstr("left out,1,," + desk_.source() +
                              "/draft.part,\"left out: by [what] skip, '*.part'\",\r\n"));
  EXPECT_THAT(list, HasSubstr("attributes,"));
  EXPECT_EQ(std::count(list.begin(), list.end(), '\n'), 1 + 44 + 1 + 1);
}

TEST_F(Previews, WriteNothingButWhatIsAskedFor) {
  write_file(desk_.source() + "/a, \"b\"\n", "x");
  ASSERT_EQ(desk_.define().exit, 0);
  Snapshot drive = take_snapshot(desk_.drive());
  EXPECT_EQ(desk_({"preview", "wardens", "--figure", desk_.folder / "x.gif"}).exit, 2);
  EXPECT_EQ(desk_({"preview", "wardens", "--list", desk_.folder / "no/such/list.csv"}).exit, 3);
  EXPECT_EQ(desk_({"preview", "wardens", "--figure", desk_.folder / "no/such/x.png"}).exit, 3);
  EXPECT_EQ(
      desk_({"preview", "wardens", "--figure", desk_.folder / "x.png", "--list", desk_.folder / "x.csv"})
          .exit,
      0);
  EXPECT_EQ(desk_({"preview", "wardens", "--figure", desk_.folder / "x.svg"}).exit, 0);
  EXPECT_TRUE(read_file(desk_.folder / "x.png").starts_with("\x89PNG"));
  EXPECT_THAT(read_file(desk_.folder / "x.svg"), HasSubstr("<svg"));
  EXPECT_THAT(read_file(desk_.folder / "x.csv"), HasSubstr(",\"" + desk_.source() + "/a, \"\"b\"\"\\n\","));
  EXPECT_EQ(compare_snapshots(drive, take_snapshot(desk_.drive())), "");
  for (const auto& entry : fs::directory_iterator(desk_.folder.path()))
    EXPECT_THAT(entry.path().string(), Not(HasSubstr(".part")));
}

TEST_F(Previews, SayWhy) {
  write_file(desk_.source() + "/scratch/x", "x");
  ASSERT_EQ(desk_.define({"--what-skip", "scratch/"}).exit, 0);
  Ran ran = desk_({"preview", "wardens", "--why", desk_.source() + "/scratch/x"});
  EXPECT_EQ(ran.out, desk_.source() + "/scratch/x\n  left out: by [what] skip, 'scratch/', so nothing in " +
                         desk_.source() + "/scratch is looked at\n");
  EXPECT_EQ(desk_({"preview", "wardens", "--why", desk_.drive()}).out,
            desk_.drive() + "\n  left out: it lies in no folder that the job saves\n");
  EXPECT_EQ(json::parse(desk_({"preview", "wardens", "--why", desk_.source(), "--json"}).out)["taken"], true);
  EXPECT_EQ(desk_({"preview", "wardens", "--why", "scratch"}).exit, 2);
  EXPECT_EQ(desk_({"preview", "wardens", "--why", desk_.source() + "/nothing"}).exit, 2);
}

TEST_F(Previews, SayWhenItWillNotFit) {
  if (geteuid() != 0) GTEST_SKIP() << "mounting a small drive needs root";
  std::mt19937 random(5);
  write_file(desk_.source() + "/sound", noise_of(random, 6 << 20));
  std::string mount = "mount -t tmpfs -o size=8m tmpfs '" + desk_.drive() + "'";
  ASSERT_EQ(std::system(mount.c_str()), 0);
  ASSERT_EQ(desk_.define().exit, 0);
  Ran ran = desk_({"preview", "wardens"});
  EXPECT_THAT(ran.out, HasSubstr("They do not fit:"));
  EXPECT_THAT(ran.out, Not(HasSubstr("It does not fit:")));
  write_file(desk_.source() + "/another", noise_of(random, 6 << 20));
  EXPECT_THAT(desk_({"preview", "wardens"}).out, HasSubstr("It does not fit:"));
  EXPECT_EQ(std::system(("umount '" + desk_.drive() + "'").c_str()), 0);
}

// What must stay while a new full set is made counts.
TEST_F(Previews, TellHowManyFullSetsTheDriveMustHold) {
  write_file(desk_.source() + "/list", "tern");
  ASSERT_EQ(desk_.define({"--how-kind", "full"}).exit, 0);
  EXPECT_EQ(preview()["drive"]["full-sets-needed"], 3);
  EXPECT_THAT(desk_({"preview", "wardens"}).out, HasSubstr("so the drive must hold 3"));
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--keep-at-least", "1 points"}).exit, 0);
  EXPECT_EQ(preview()["drive"]["full-sets-needed"], 2);
  EXPECT_THAT(desk_({"preview", "wardens"}).out, HasSubstr("so the drive must hold two"));
}

}  // namespace
}  // namespace kestrum::test
