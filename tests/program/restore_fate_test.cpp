// A restore says what becomes of each file, before and after; what is the same already is left alone; room is
// looked at before anything is written.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;
using testing::HasSubstr;
using testing::Not;

class RestoreFates : public testing::Test {
 protected:
  RestoreFates() {
    for (int i = 0; i < 6; ++i) write_file(file(i), "count " + std::to_string(i) + "\n");
    std::string large;
    for (std::int64_t i = 0; large.size() < 9'000'000; ++i) large += std::to_string(i * 7919) + ",";
    write_file(desk_.source() + "/large.bin", large);
    write_file(desk_.source() + "/sparse.img", "begin");
    fs::resize_file(desk_.source() + "/sparse.img", 3'000'000);
    fs::create_symlink("count-0", desk_.source() + "/first");
    EXPECT_EQ(desk_.define().exit, 0);
    EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  }
  std::string file(int i) const { return desk_.source() + "/count-" + std::to_string(i); }
  Json in_place(const std::string& clash, bool dry) {
    std::vector<std::string> words{"restore", "wardens", desk_.source(), "--in-place",
                                   "--clash", clash,     "--json"};
    if (dry) words.emplace_back("--dry");
    Ran ran = desk_(words);
    EXPECT_EQ(ran.exit, 0) << ran.err;
    return Json::parse(ran.out);
  }
  static std::map<std::string, std::string> fates(const Json& json) {
    std::map<std::string, std::string> out;
    for (const Json& item : json["items"])
      if (item["type"] != "folder")
        out[fs::path(item["path"].get<std::string>()).filename()] =
            item["fate"].get<std::string>() + " " +
            fs::path(item["placed"].get<std::string>()).filename().string();
    return out;
  }
  std::size_t names() const {
    return static_cast<std::size_t>(
        std::distance(fs::directory_iterator(desk_.source()), fs::directory_iterator()));
  }
  Desk desk_;
};

TEST_F(RestoreFates, WhatIsTheSameIsLeftAlone) {
  write_file(file(2), "COUNT 2\n");  // the same size
  fs::remove(file(3));
  const std::size_t before = names();
  const Json json = in_place("keep-both", false);
  EXPECT_EQ(json["identical"], 7);  // the large one, the one with a hole and the link among them
  EXPECT_EQ(json["beside"], 1);
  EXPECT_EQ(json["files"], 2);
  EXPECT_EQ(names(), before + 2);
  EXPECT_EQ(read_file(file(3)), "count 3\n");
  EXPECT_EQ(read_file(file(2)), "COUNT 2\n");
  // Again: what was missing is there now, and the one that differs has its like beside it.
  const Json again = in_place("keep-both", false);
  EXPECT_EQ(again["identical"], 9);
  EXPECT_EQ(again["files"], 0);
  EXPECT_EQ(names(), before + 2);
}

TEST_F(RestoreFates, ADryRestoreSaysWhatTheRealOneDoes) {
  for (const char* clash : {"keep-both", "replace", "keep-existing", "keep-newer"}) {
    write_file(file(2), "another count\n");
    write_file(file(4), "an old count\n");
    fs::last_write_time(file(4), fs::file_time_type::clock::now() - std::chrono::hours(24 * 365));
    fs::remove(file(3));
    // The last byte of the large one differs, and a byte in the hole.
    for (const char* name : {"/large.bin", "/sparse.img"}) {
      std::string content = read_file(desk_.source() + name);
      content.back() = '!';
      write_file(desk_.source() + name, content);
    }
    fs::remove(desk_.source() + "/first");
    fs::create_symlink("count-1", desk_.source() + "/first");
    const Json dry = in_place(clash, true);
    EXPECT_FALSE(fs::exists(file(3)));
    const Json real = in_place(clash, false);
    EXPECT_EQ(fates(dry), fates(real)) << clash;
    for (const char* name : {"large.bin", "sparse.img", "first", "count-2"})
      EXPECT_EQ(fates(real)[name].starts_with("beside"), std::string(clash) == "keep-both") << name;
    for (const char* count : {"files", "bytes", "identical", "kept", "beside", "replaced", "others"})
      EXPECT_EQ(dry[count], real[count]) << clash << " " << count;
    EXPECT_GE(dry["room"]["free-bytes"].get<std::uint64_t>(), 1U);
    for (const auto& entry : fs::directory_iterator(desk_.source()))
      if (entry.path().string().find("(from") != std::string::npos) fs::remove(entry.path());
  }
  // Two files of one name in one folder, and a link in the way.
  write_file(desk_.source() + "/deep/count-0", "another\n");
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  std::vector<std::string> words{"restore",  "wardens", desk_.source(), "--to", desk_.folder / "flat",
                                 "--layout", "flat",    "--json",       "--dry"};
  const Json dry = Json::parse(desk_(words).out);
  words.pop_back();
  EXPECT_EQ(dry["beside"], 1);
  EXPECT_FALSE(fs::exists(desk_.folder / "flat"));
  EXPECT_EQ(Json::parse(desk_(words).out)["beside"], 1);
  fs::remove_all(desk_.source() + "/deep");
  fs::create_symlink("/tmp", desk_.source() + "/deep");
  Ran blocked = desk_({"restore", "wardens", desk_.source() + "/deep", "--in-place", "--dry"});
  EXPECT_EQ(blocked.exit, 1);
  EXPECT_THAT(blocked.out, HasSubstr("is not a folder"));
}

TEST_F(RestoreFates, RoomIsLookedAtBefore) {
  if (!may_mount()) GTEST_SKIP() << "needs root, to mount drives";
  const std::string stick = desk_.folder / "stick";
  Mounted small("tmpfs", stick, "-t tmpfs -o size=4m");
  ASSERT_TRUE(small.good());
  std::vector<std::string> words{"restore", "wardens", desk_.source(), "--to", stick + "/back"};
  Ran full = desk_(words);
  EXPECT_EQ(full.exit, 9);
  EXPECT_THAT(full.err, HasSubstr("nothing was restored"));
  EXPECT_FALSE(fs::exists(stick + "/back"));
  words.emplace_back("--dry");
  Ran dry = desk_(words);
  EXPECT_EQ(dry.exit, 9);
  EXPECT_THAT(dry.out, HasSubstr("it does not fit"));
  // A file with a hole takes only what is in it.
  EXPECT_EQ(desk_({"restore", "wardens", desk_.source() + "/sparse.img", file(1), "--to", stick}).exit, 0);
}

TEST_F(RestoreFates, ThousandsOfFilesAreSaidInAFewLines) {
  for (int i = 0; i < 50; ++i) write_file(desk_.source() + "/rings/" + std::to_string(i), std::to_string(i));
  ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  std::vector<std::string> words{"restore", "wardens", desk_.source() + "/rings", "--to", desk_.folder / "a"};
  Ran shortly = desk_(words);
  EXPECT_LE(std::count(shortly.out.begin(), shortly.out.end(), '\n'), 3);
  EXPECT_THAT(shortly.out, HasSubstr("50 files; --every shows them, --list FILE writes them down"));
  words.back() = desk_.folder / "b";
  words.emplace_back("--every");
  EXPECT_GE(std::ranges::count(desk_(words).out, '\n'), 50);
}

TEST_F(RestoreFates, AnUnreadableFolderIsListed) {
  if (geteuid() != 0) GTEST_SKIP() << "needs root, to run as somebody else";
  fs::create_directories(desk_.source() + "/closed");
  write_file(desk_.source() + "/closed/x", "x");
  chmod((desk_.source() + "/closed").c_str(), 0);
  chmod(desk_.folder.path().c_str(), 0755);
  fs::create_directories(desk_.folder / "theirs/drive");
  write_file(desk_.folder / "theirs/pass", "tern in the fog\n");
  for (const char* path : {"theirs", "theirs/drive", "theirs/pass"}) {
    ASSERT_EQ(chown((desk_.folder / path).c_str(), 65534, 65534), 0);
    chmod((desk_.folder / path).c_str(), fs::is_directory(desk_.folder / path) ? 0755 : 0600);
  }
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "theirs/home";
  desk_.program.user = 65534;
  ASSERT_EQ(desk_({"job", "define", "theirs", "--what-folders", desk_.source(), "--where-destinations",
                   desk_.folder / "theirs/drive", "--same-disk", "--protect-passphrase",
                   "file:" + (desk_.folder / "theirs/pass")})
                .exit,
            0);
  EXPECT_EQ(desk_({"run", "theirs"}).exit, 1);
  EXPECT_THAT(desk_({"browse", "theirs", desk_.source() + "/closed"}).out, HasSubstr("could not be listed"));
  Ran back = desk_({"restore", "theirs", desk_.source(), "--to", desk_.folder / "theirs/back"});
  EXPECT_EQ(back.exit, 1);
  EXPECT_THAT(back.out, HasSubstr("closed: it could not be listed in full"));
}

}  // namespace
}  // namespace kestrum::test
