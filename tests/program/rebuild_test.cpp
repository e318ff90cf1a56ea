// The old machine is gone: a job back from its drive alone; what the drive says to whoever finds it.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/terminal.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;
using testing::HasSubstr;
using testing::Not;

constexpr const char* note_name = "/ABOUT-THESE-BACKUPS.txt";

class Rebuild : public testing::Test {
 protected:
  Rebuild() {
    write_file(desk_.source() + "/ringing/2027.csv", "SP1,Arctic Tern\n");
    write_file(desk_.source() + "/moths/trap.csv", "Garden Tiger,4\n");
  }
  void run(const char* when, int exit = 0) {
    desk_.program.environment["KESTRUM_NOW"] = when;
    const Ran ran = desk_({"run", "wardens", "--quiet"});
    EXPECT_EQ(ran.exit, exit) << ran.err;
  }
  // Another machine: nothing of the first is there but the drive.
  void burn() {
    fs::remove_all(desk_.folder / "home");
    fs::remove(desk_.pass());
    fs::remove_all(desk_.source());
    desk_.program.environment["KESTRUM_MACHINE"] = "skerry-2";
    desk_.program.environment["KESTRUM_NOW"] = "2027-03-12T09:00:00Z";
    write_file(key(), "tern in the fog\n");
    chmod(key().c_str(), 0600);
  }
  std::string key() const { return desk_.folder / "new.pass"; }
  std::string here() const { return desk_.folder / "here"; }
  Ran rebuild(std::vector<std::string> more = {}) {
    std::vector<std::string> words{"job",
                                   "rebuild",
                                   "ringers",
                                   "--from",
                                   desk_.drive(),
                                   "--map",
                                   desk_.source() + "=" + here(),
                                   "--passphrase",
                                   "file:" + key()};
    words.insert(words.end(), more.begin(), more.end());
    return desk_(words);
  }
  Desk desk_;
};

TEST_F(Rebuild, FileHistoryAndMemoryComeBackAndTheNextRunGoesOn) {
  ASSERT_EQ(desk_({"recovery", "create", desk_.folder / "way-in", "--same-disk"}).exit, 0);
  ASSERT_EQ(desk_
                .define({"--protect-recovery-key", desk_.folder / "way-in.pub", "--what-skip",
                         desk_.source() + "/scratch/", "--what-skip", "*.part", "--when-runs",
                         "daily at 20:30", "--around-after", "true"})
                .exit,
            0);
  run("2027-03-08T20:30:00Z");
  write_file(desk_.source() + "/moths/trap.csv", "Garden Tiger,9\n");
  run("2027-03-09T20:30:00Z");
  burn();
  fs::remove(desk_.folder / "way-in.pub");
  const Ran ran = rebuild({"--protect-passphrase", "file:" + key()});
  ASSERT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("Rebuilt ringers from point 2"));
  EXPECT_THAT(ran.out, HasSubstr("2 points are taken into its history"));
  EXPECT_TRUE(fs::exists(desk_.folder / "way-in.pub"));
  const Json job = Json::parse(desk_({"job", "show", "ringers", "--json"}).out)["job"];
  EXPECT_EQ(job["what"]["folders"], Json::array({here()}));
  EXPECT_EQ(job["what"]["skip"], Json::array({here() + "/scratch/", "*.part"}));
  EXPECT_EQ(job["around"]["after"], "true") << "a passphrase says who made the point";
  const Json history = Json::parse(desk_({"history", "ringers", "--json"}).out);
  EXPECT_EQ(history["runs"].size(), 2u);
  EXPECT_EQ(history["runs"][0]["point"], 2);
  // The files come back as the last line says, and the next run goes on with the chain.
  EXPECT_EQ(desk_({"restore", "ringers", "/", "--in-place", "--map", desk_.source() + "=" + here()}).exit, 0);
  EXPECT_EQ(read_file(here() + "/moths/trap.csv"), "Garden Tiger,9\n");
  desk_.program.environment["KESTRUM_NOW"] = "2027-03-12T20:30:00Z";
  const Ran next = desk_({"run", "ringers"});
  EXPECT_EQ(next.exit, 0) << next.err;
  EXPECT_THAT(next.out, HasSubstr("point 3, incremental"));
  EXPECT_THAT(desk_({"points", "ringers"}).out, HasSubstr("Job ringers of skerry-2"));
  EXPECT_THAT(desk_({"browse", "ringers", here() + "/moths"}).out, Not(HasSubstr("gone today")));
  // Anew is refused; nothing is overwritten.
  EXPECT_EQ(rebuild().exit, 2);
}

TEST_F(Rebuild, AnOlderStateIsStillNoticed) {
  ASSERT_EQ(desk_.define().exit, 0);
  run("2027-03-08T20:30:00Z");
  run("2027-03-09T20:30:00Z");
  burn();
  ASSERT_EQ(rebuild({"--protect-passphrase", "file:" + key()}).exit, 0);
  fs::create_directories(here());
  write_file(here() + "/list", "x");
  fs::remove_all(desk_.set_folder(2));
  EXPECT_EQ(desk_({"run", "ringers", "--quiet"}).exit, 8);
}

TEST_F(Rebuild, CommandsThatAnybodyCouldHaveWrittenAreLeftOut) {
  ASSERT_EQ(desk_
                .define({"--around-before", "touch " + (desk_.folder / "ran"), "--where-attach", "true",
                         "--tell-page", desk_.folder / "page.html"},
                        false)
                .exit,
            0);
  run("2027-03-08T20:30:00Z");
  burn();
  // No key proves it: that is said, and taken over only where somebody says so.
  const Ran asked = rebuild();
  EXPECT_EQ(asked.exit, 7);
  EXPECT_THAT(asked.err, HasSubstr("--unproved"));
  EXPECT_EQ(desk_({"job", "show", "ringers"}).exit, 2);
  const Ran ran = rebuild({"--unproved"});
  ASSERT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.err, HasSubstr("anybody who could write the drive"));
  const Json job = Json::parse(desk_({"job", "show", "ringers", "--json"}).out)["job"];
  EXPECT_TRUE(job["around"]["before"].is_null());
  EXPECT_TRUE(job["where"]["attach"].is_null());
  EXPECT_TRUE(job["tell"]["page"].is_null());
}

TEST_F(Rebuild, TheNewestPointThatReadsIsTaken) {
  ASSERT_EQ(desk_.define().exit, 0);
  run("2027-03-08T20:30:00Z");
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--what-description", "lists"}).exit, 0);
  run("2027-03-09T20:30:00Z");
  const std::string volume = desk_.set_folder(2) + "/data-001.kvol";
  std::string content = read_file(volume);
  for (std::size_t at = 100; at < content.size(); ++at) content[at] ^= 0x55;
  write_file(volume, content);
  burn();
  const Ran ran = rebuild({"--protect-passphrase", "file:" + key()});
  ASSERT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("from point 1"));
  EXPECT_THAT(ran.err, HasSubstr("passed over: point 2"));
}

TEST_F(Rebuild, AsksForWhatIsNotHere) {
  ASSERT_EQ(desk_.define().exit, 0);
  run("2027-03-08T20:30:00Z");
  burn();
  const Ran ran = desk_.program.converse({"job", "rebuild", "ringers", "--from", desk_.drive()},
                                         {{"passphrase of the archive sets", "tern in the fog\n"},
                                          {"Where is it on this machine", here() + "\n"},
                                          {"Where does the passphrase come from", "file:" + key() + "\n"}});
  EXPECT_EQ(ran.exit, 0) << ran.out;
  const Json job = Json::parse(desk_({"job", "show", "ringers", "--json"}).out)["job"];
  EXPECT_EQ(job["what"]["folders"], Json::array({here()}));
  EXPECT_EQ(job["protect"]["passphrase"], "file:" + key());
}

TEST_F(Rebuild, BadInput) {
  ASSERT_EQ(desk_.define().exit, 0);
  EXPECT_EQ(desk_({"job", "rebuild", "ringers"}).exit, 2);
  EXPECT_EQ(desk_({"job", "rebuild", "ringers", "--from", desk_.folder / "nowhere"}).exit, 5);
  EXPECT_EQ(desk_({"job", "rebuild", "wardens", "--from", desk_.drive()}).exit, 2) << "it is there";
  run("2027-03-08T20:30:00Z");
  burn();
  write_file(key(), "a guillemot\n");
  EXPECT_EQ(rebuild().exit, 7);
  EXPECT_EQ(desk_({"job", "list", "--json"}).out.find("ringers"), std::string::npos);
}

TEST_F(Rebuild, WhoeverFindsTheDriveIsTold) {
  ASSERT_EQ(desk_.define({"--where-program", "put there"}).exit, 0);
  run("2027-03-08T20:30:00Z");
  const std::string note = read_file(desk_.drive() + note_name);
  EXPECT_THAT(note, HasSubstr("HOW FILES COME BACK"));
  for (const char* secret : {"tern in the fog", "skerry-1", "wardens"})
    EXPECT_THAT(note, Not(HasSubstr(secret)));
  // What somebody has written there is not believed for ever.
  write_file(desk_.drive() + note_name, "send money\n");
  run("2027-03-09T20:30:00Z");
  EXPECT_EQ(read_file(desk_.drive() + note_name), note);
  // The program that lies there is this one, and runs.
  const std::string copy = desk_.folder / "kestrum";
  fs::copy_file(desk_.drive() + "/kestrum-program/kestrum", copy);
  chmod(copy.c_str(), 0755);
  EXPECT_EQ(std::system((copy + " --version > /dev/null").c_str()), 0);
  EXPECT_THAT(read_file(desk_.drive() + "/kestrum-program/needs.txt"), HasSubstr("libsodium"));
  const auto written = fs::last_write_time(desk_.drive() + "/kestrum-program/kestrum");
  run("2027-03-10T20:30:00Z");
  EXPECT_EQ(fs::last_write_time(desk_.drive() + "/kestrum-program/kestrum"), written) << "not written again";
  fs::resize_file(desk_.drive() + "/kestrum-program/kestrum", 1000);
  run("2027-03-11T20:30:00Z");
  EXPECT_GT(fs::file_size(desk_.drive() + "/kestrum-program/kestrum"), 1000u);
}

TEST_F(Rebuild, ALinkInItsPlaceIsNotFollowed) {
  ASSERT_EQ(desk_.define({"--where-program", "put there"}).exit, 0);
  run("2027-03-08T20:30:00Z");
  const std::string outside = desk_.folder / "outside";
  write_file(outside, "mine");
  fs::create_directories(desk_.folder / "folder");
  fs::remove(desk_.drive() + note_name);
  fs::create_symlink(outside, desk_.drive() + note_name);
  fs::remove_all(desk_.drive() + "/kestrum-program");
  fs::create_directory_symlink(desk_.folder / "folder", desk_.drive() + "/kestrum-program");
  run("2027-03-09T20:30:00Z");
  EXPECT_EQ(read_file(outside), "mine");
  EXPECT_TRUE(fs::is_empty(desk_.folder / "folder"));
}

}  // namespace
}  // namespace kestrum::test
