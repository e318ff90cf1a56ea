// A part of the list of files does not read, in the middle of a point: every command says so and ends with
// the code for damage, and gives all the rest, whole.
#include <dirent.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/mount.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::Not;

constexpr int damage_code = 4, problems_code = 1;

class DamagedList : public testing::Test {
 protected:
  // 160 folders of 100 counts.
  void SetUp() override {
    for (int i = 0; i < folders * each; ++i) write_file(count(i), "1");
    ASSERT_EQ(desk_.define({"--how-kind", "incremental"}, false).exit, 0);
    run("2027-03-08");
    write_file(count(0), "first");
    write_file(count(folders * each - 1), "last");
    run("2027-03-09");
    ASSERT_TRUE(desk_.spoil_list(1, "name 00001", "name 15998"));
    desk_.program.environment["KESTRUM_NOW"] = "2027-03-10T12:00:00Z";
  }
  void run(const std::string& date) {
    desk_.program.environment["KESTRUM_NOW"] = date + "T20:30:00Z";
    ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  }
  static constexpr int folders = 160, each = 100;
  std::string count(int number) const {
    char name[64];
    std::snprintf(name, sizeof name, "/counts/%03d/a rather long name %05d", number / each, number);
    return desk_.source() + name;
  }
  // Says, once, that a part of the list does not read.
  Ran damaged(const std::vector<std::string>& words, int code = damage_code) {
    Ran ran = desk_(words);
    EXPECT_EQ(ran.exit, code) << ran.out.substr(0, 2000) << ran.err;
    EXPECT_THAT(ran.out.substr(0, 100000) + ran.err, HasSubstr("part of the list of files does not read"));
    return ran;
  }
  // Every file there is the one that was saved; gives how many.
  int whole_files_in(const std::string& top) {
    int whole = 0;
    for (int i = 0; i < folders * each; ++i) {
      const std::string file = top + count(i);
      if (!fs::exists(file)) continue;
      EXPECT_EQ(read_file(file), read_file(count(i))) << file;
      ++whole;
    }
    return whole;
  }
  Desk desk_;
};

TEST_F(DamagedList, IsSaidByEveryListing) {
  const Ran listing = damaged({"browse", "wardens", "/", "--deep"});
  EXPECT_THAT(listing.out, HasSubstr("name 00001"));
  EXPECT_THAT(listing.out, HasSubstr("name 15998"));
  EXPECT_THAT(damaged({"find", "wardens", "name 1599"}, problems_code).out, HasSubstr("name 15998"));
  EXPECT_THAT(damaged({"find", "wardens", "name 1599", "--all"}, problems_code).out, HasSubstr("name 15998"));
  EXPECT_THAT(damaged({"versions", "wardens", "name 15998"}, problems_code).out, HasSubstr("name 15998"));
  EXPECT_THAT(damaged({"compare", "wardens", desk_.source(), "--at", "2"}).out, HasSubstr("to the disk now"));
  const auto json =
      nlohmann::json::parse(damaged({"find", "wardens", "name 1599", "--json"}, problems_code).out);
  EXPECT_EQ(json["versions"].size(), 11u);  // 01599 as well
}

TEST_F(DamagedList, RestoresAllTheRest) {
  const std::string to = desk_.folder / "to";
  const std::string said =
      damaged({"restore", "wardens", desk_.source(), "--to", to, "--layout", "path"}).out;
  // Pages in a row are one gap; one of the upper levels that lies among them is another one.
  std::size_t gaps = 0;
  for (std::size_t at = 0; (at = said.find("does not read", at)) != std::string::npos; ++at) ++gaps;
  EXPECT_GE(gaps, 1u);
  EXPECT_LE(gaps, 2u) << said;
  const int whole = whole_files_in(to);
  EXPECT_GT(whole, folders * each / 4);
  EXPECT_LT(whole, folders * each);
  const std::string zip = desk_.folder / "all.zip";
  damaged({"restore", "wardens", desk_.source(), "--into", zip, "--layout", "path"});
  const std::string unzip =
      "/usr/bin/python3 -m zipfile -e '" + zip + "' '" + (desk_.folder / "unzipped") + "'";
  ASSERT_EQ(std::system(unzip.c_str()), 0);
  EXPECT_EQ(whole_files_in(desk_.folder / "unzipped"), whole);
  // What stands elsewhere in the list is not touched by it.
  EXPECT_EQ(desk_({"restore", "wardens", count(1), "--to", desk_.folder / "one"}).exit, 0);
  EXPECT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, damage_code);
}

TEST_F(DamagedList, OpensAsFarAsItReads) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  const std::string on = desk_.folder / "on";
  fs::create_directories(on);
  ASSERT_EQ(desk_({"open", "wardens", "--at", "2", "--on", on}).exit, 0);
  std::map<std::string, bool> listed;  // names of files; folders, and whether their list came to its end
  int files = 0, cut_short = 0;
  const std::string top = on + desk_.source() + "/counts";
  const auto list = [](const std::string& folder, std::vector<std::string>& names) {
    DIR* const open = opendir(folder.c_str());
    if (open == nullptr) return false;
    errno = 0;
    while (const dirent* one = readdir(open)) {
      if (one->d_name[0] != '.') names.emplace_back(one->d_name);
      errno = 0;
    }
    const bool whole = errno == 0;
    EXPECT_TRUE(whole || errno == EIO) << errno;
    closedir(open);
    return whole;
  };
  std::vector<std::string> below;
  const bool all_folders = list(top, below);
  for (const std::string& folder : below) {
    std::vector<std::string> names;
    const bool whole = list(top + "/" + folder, names);
    if (whole) {
      EXPECT_EQ(names.size(), each) << folder;
    } else {
      EXPECT_LT(names.size(), each) << folder;
      ++cut_short;
    }
    files += static_cast<int>(names.size());
  }
  // The folders whose own place in the list is lost are missing, and that is said.
  EXPECT_FALSE(all_folders);
  EXPECT_GT(below.size(), folders / 4u);
  EXPECT_LT(below.size(), folders * 1u);
  EXPECT_GE(cut_short, 1);
  // A copy of it is not taken for all that there was.
  EXPECT_NE(std::system(("cp -r '" + top + "' '" + (desk_.folder / "copy") + "' 2> /dev/null").c_str()), 0);
  // What nobody knows is not said to be missing; what is known to be is.
  int unread = 0;
  for (int i = 0; i < folders * each; ++i) {
    struct stat status {};
    if (stat((on + count(i)).c_str(), &status) == 0) continue;
    ASSERT_EQ(errno, EIO) << count(i);
    ++unread;
  }
  EXPECT_EQ(files + unread, folders * each);
  struct stat status {};
  EXPECT_EQ(stat((top + "/000/none").c_str(), &status), -1);
  EXPECT_EQ(errno, ENOENT);
  EXPECT_EQ(desk_({"open", "--close", on}).exit, 0);
}

}  // namespace
}  // namespace kestrum::test
