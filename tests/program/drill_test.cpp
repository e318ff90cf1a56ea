// A rehearsed restore: what it says is what is so, whatever is wrong, and nothing of it stays behind.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <signal.h>
#include <sys/file.h>
#include <unistd.h>

#include <nlohmann/json.hpp>
#include <set>

#include "program/agent_desk.hpp"
#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class DrillVerb : public testing::Test {
 protected:
  void define(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words{"--check-after-run", "nothing", "--protect-guard", "no"};
    words.insert(words.end(), more.begin(), more.end());
    ASSERT_EQ(desk_.define(words).exit, 0);
    for (unsigned i = 0; i < 60; ++i)
      write_file(path("list-" + std::to_string(i) + ".csv"),
                 "Gannet," + std::to_string(i) + "\n" + noise(i, 3000));
  }
  void run() { ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0); }
  std::string path(const std::string& name) const { return desk_.source() + "/" + name; }
  Ran drill(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words{"drill", "wardens", "--quiet"};
    words.insert(words.end(), more.begin(), more.end());
    return desk_(words);
  }
  json drilled(std::vector<std::string> more = {}) {
    more.push_back("--json");
    return json::parse(drill(more).out);
  }
  static json of(const json& result, const std::string& path) {
    for (const json& file : result["files"]) {
      if (file["path"] == path) return file;
    }
    return nullptr;
  }
  // Anything that a drill has left.
  std::vector<std::string> left() const {
    std::vector<std::string> found;
    for (const auto& entry : fs::recursive_directory_iterator(desk_.folder / "home")) {
      if (entry.path().filename().string().starts_with("drill-")) found.push_back(entry.path());
    }
    return found;
  }
  bool said(const std::string& command) { return std::system(command.c_str()) == 0; }
  Desk desk_;
};

TEST_F(DrillVerb, BringsASampleBackAndComparesIt) {
  define();
  run();
  write_file(path("list-3.csv"), "Kittiwake,1\n");
  fs::remove(path("list-4.csv"));
  const Ran told = drill({"--files", "20"});
  EXPECT_EQ(told.exit, 0) << told.out << told.err;
  EXPECT_THAT(told.out,
              HasSubstr("20 of 60 files were brought back and compared, and all are as they were saved."));
  EXPECT_THAT(told.out, HasSubstr("A full restore would take less than a minute."));
  const json all = drilled();
  EXPECT_EQ(all["good"], true);
  EXPECT_EQ(all["sample-files"], 60);
  EXPECT_EQ(all["all-files"], 60);
  std::map<std::string, int> sources;
  for (const json& file : all["files"]) {
    EXPECT_EQ(file["state"], "good") << file;
    ++sources[file["on-disk"]];
  }
  EXPECT_EQ(sources, (std::map<std::string, int>{{"same", 58}, {"changed", 2}}));
  EXPECT_TRUE(left().empty());
}

TEST_F(DrillVerb, TheSampleIsAnotherEachTimeAndTheSameBySeed) {
  define();
  run();
  const auto names = [](const json& result) {
    std::set<std::string> paths;
    for (const json& file : result["files"]) paths.insert(file["path"]);
    return paths;
  };
  const json first = drilled({"--files", "10"});
  EXPECT_EQ(names(drilled({"--files", "10", "--seed", std::to_string(first["seed"].get<int>())})),
            names(first));
  std::map<std::string, int> often;
  for (int seed = 0; seed < 30; ++seed) {
    const json result = drilled({"--files", "10", "--seed", std::to_string(seed)});
    EXPECT_EQ(result["files"].size(), 10u);
    for (const std::string& one : names(result)) ++often[one];
  }
  // Each of 60 five times in the mean.
  EXPECT_GE(often.size(), 55u);
  for (const auto& [name, count] : often) EXPECT_LE(count, 14) << name;
}

TEST_F(DrillVerb, WhatMustBeInItIs) {
  define({"--check-drill-with", path("ringing")});
  write_file(path("ringing/2026.csv"), "a ring\n");
  write_file(path("ringing/old/2025.csv"), "another\n");
  run();
  for (int seed = 0; seed < 5; ++seed) {
    const json result =
        drilled({"--files", "2", "--seed", std::to_string(seed), "--with", path("list-9.csv")});
    EXPECT_EQ(of(result, path("ringing/2026.csv"))["always"], true);
    EXPECT_EQ(of(result, path("ringing/old/2025.csv"))["always"], true);
    EXPECT_EQ(of(result, path("list-9.csv"))["always"], true);
    EXPECT_LE(result["files"].size(), 5u);
  }
  const Ran missing = drill({"--files", "2", "--with", path("nothing.csv")});
  EXPECT_EQ(missing.exit, 1);
  EXPECT_THAT(missing.out, HasSubstr("nothing.csv"));
  EXPECT_EQ(drill({"--files", "0"}).exit, 2);
  EXPECT_EQ(drill({"--at", "77"}).exit, 2);
  EXPECT_EQ(desk_({"drill", "nobody"}).exit, 2);
  EXPECT_EQ(desk_({"job", "edit", "wardens", "--check-drill-with", "ringing"}).exit, 2);
}

TEST_F(DrillVerb, NamesWhatDoesNotComeBack) {
  define({"--how-volume-size", "1 MiB"});
  for (unsigned i = 0; i < 3; ++i)
    write_file(path("calls-" + std::to_string(i) + ".wav"), noise(100 + i, 2u << 20));
  run();
  const std::string volume = desk_.set_folder(1) + "/data-001.kvol";
  std::string content = read_file(volume);
  content[content.size() / 2] ^= 1;
  write_file(volume, content);
  const Ran told = drill();
  EXPECT_EQ(told.exit, 4);
  EXPECT_THAT(told.out,
              AllOf(HasSubstr("What needs a look:"), HasSubstr("it did not come back"), HasSubstr("calls-"),
                    HasSubstr("What else is affected, and what could be mended: kestrum verify wardens")));
  const json result = drilled();
  EXPECT_EQ(result["good"], false);
  std::size_t missing = 0;
  for (const json& file : result["files"]) {
    const std::string to = desk_.folder / "out";
    const bool comes = desk_({"restore", "wardens", file["path"], "--to", to, "--quiet"}).exit == 0;
    EXPECT_EQ(file["state"] == "good", comes) << file;
    missing += comes ? 0 : 1;
    fs::remove_all(to);
  }
  EXPECT_GE(missing, 1u);
  EXPECT_TRUE(left().empty());
}

TEST_F(DrillVerb, AListThatDoesNotReadIsDamage) {
  define();
  run();
  std::string content = read_file(desk_.set_folder(1) + "/data-001.kvol");
  for (std::size_t at = 96; at + 32 < content.size();) {
    std::uint32_t size = 0;
    std::memcpy(&size, content.data() + at + 12, sizeof size);
    if (content[at + 4] == 2) content[at + 40] ^= 1;
    at += 32 + size;
  }
  write_file(desk_.set_folder(1) + "/data-001.kvol", content);
  const Ran told = drill();
  EXPECT_EQ(told.exit, 4);
  EXPECT_THAT(told.out, HasSubstr("no file was brought back"));
  EXPECT_EQ(drilled()["good"], false);
}

TEST_F(DrillVerb, AFileOnTheDiskThatWentBadIsTold) {
  define();
  run();
  const std::string bad = path("list-5.csv");
  const auto time = fs::last_write_time(bad);
  std::string content = read_file(bad);
  content[40] ^= 1;
  write_file(bad, content);
  fs::last_write_time(bad, time);
  const Ran told = drill();
  EXPECT_EQ(told.exit, 1);
  EXPECT_THAT(told.out,
              HasSubstr("list-5.csv: the file on the disk has other content now, at the same size and time"));
  EXPECT_EQ(of(drilled(), bad)["on-disk"], "differs");
}

TEST_F(DrillVerb, OpensWhatItCan) {
  define();
  const std::string in = "cd '" + desk_.source() + "' && ";
  ASSERT_TRUE(
      said(in + "sqlite3 sightings.db 'create table seen(bird, day); insert into seen values(1, 2)'"));
  ASSERT_TRUE(said(
      in + "tar cf lists.tar list-1*.csv && gzip -k list-2.csv && xz -k list-2.csv && zstd -q list-2.csv"));
  write_file(path("plain.txt"), "no program is asked\n");
  // Saved as they are: spoilt already.
  std::string database = read_file(path("sightings.db"));
  std::fill(database.begin() + 4096, database.end(), 'x');
  write_file(path("broken.db"), database);
  write_file(path("broken.csv.gz"), read_file(path("list-2.csv.gz")).substr(0, 600));
  write_file(path("odd $(touch x) 'name'.gz"), read_file(path("list-2.csv.gz")));
  run();
  const Ran told = drill();
  EXPECT_EQ(told.exit, 1) << told.out;
  EXPECT_THAT(told.out, HasSubstr("it is as it was saved, and does not open as a database"));
  EXPECT_THAT(told.out,
              HasSubstr("broken.csv.gz: it is as it was saved, and does not open as a packed file (gzip"));
  const json result = drilled();
  for (const char* good : {"sightings.db", "lists.tar", "list-2.csv.gz", "list-2.csv.xz", "list-2.csv.zst",
                           "odd $(touch x) 'name'.gz"})
    EXPECT_EQ(of(result, path(good))["opening"]["opens"], true) << of(result, path(good));
  for (const char* bad : {"broken.db", "broken.csv.gz"})
    EXPECT_EQ(of(result, path(bad))["opening"]["opens"], false) << of(result, path(bad));
  EXPECT_TRUE(of(result, path("plain.txt"))["opening"].is_null());
  // Without the programs nothing is said of it.
  fs::create_directories(desk_.folder / "no-programs");
  desk_.program.environment["PATH"] = desk_.folder / "no-programs";
  const json without = drilled();
  EXPECT_EQ(of(without, path("list-2.csv.gz"))["opening"]["tried"], false);
  EXPECT_EQ(of(without, path("sightings.db"))["opening"]["opens"], true);
}

TEST_F(DrillVerb, LeavesNothingBehindButWhatIsAskedFor) {
  define();
  run();
  const json kept = drilled({"--stays", "--into", desk_.folder.path()});
  const std::string in = kept["kept-in"];
  EXPECT_EQ(read_file(in + path("list-7.csv")), read_file(path("list-7.csv")));
  EXPECT_EQ(fs::status(in).permissions() & fs::perms::mask, fs::perms::owner_all);
  // What a killed one has left goes with the next; what was kept stays.
  const std::string killed = desk_.folder / "drill-0123456789abcdef";
  write_file(killed + "/secret", "x");
  fs::permissions(killed, fs::perms::none);
  // One that goes on beside it is left alone.
  const std::string other = desk_.folder / "drill-fedcba9876543210";
  write_file(other + "/secret", "x");
  const int held = open(other.c_str(), O_RDONLY | O_DIRECTORY);
  ASSERT_EQ(flock(held, LOCK_EX), 0);
  EXPECT_EQ(drill({"--into", desk_.folder.path()}).exit, 0);
  EXPECT_FALSE(fs::exists(killed));
  EXPECT_TRUE(fs::exists(other + "/secret"));
  close(held);
  EXPECT_TRUE(fs::exists(in));
  EXPECT_EQ(drill({"--into", desk_.folder / "nowhere"}).exit, 3);
}

TEST_F(DrillVerb, APageForTheOwner) {
  define();
  write_file(path("<b>&\".csv"), "x");
  run();
  const std::string page = desk_.folder / "drill.html";
  EXPECT_EQ(drill({"--page", page, "--rebuild"}).exit, 0);
  const std::string text = read_file(page);
  EXPECT_THAT(
      text, AllOf(HasSubstr("Rehearsal of a restore: wardens"), HasSubstr("61 of 61 files were brought back"),
                  HasSubstr("&lt;b&gt;&amp;"), HasSubstr("A lost home"), HasSubstr("as saved")));
  EXPECT_TRUE(said("tidy -q -e '" + page + "'"));
}

TEST_F(DrillVerb, WhatElseCouldBeLostIsTried) {
  ASSERT_EQ(desk_({"recovery", "create", desk_.folder / "office", "--same-disk"}).exit, 0);
  define({"--protect-recovery-key", desk_.folder / "office.pub"});
  run();
  fs::remove(desk_.folder / "office.pub");
  const std::string home_before = desk_({"status", "--json"}).out;
  const json good = drilled({"--rebuild"});
  ASSERT_EQ(good["trials"].size(), 4u) << good;
  for (const json& trial : good["trials"]) EXPECT_EQ(trial["good"], true) << trial;
  EXPECT_FALSE(fs::exists(desk_.folder / "office.pub")) << "it writes outside of its folder";
  // One of two seals is enough for everything, and a finding all the same.
  fs::remove(desk_.set_folder(1) + "/seal-copy.json");
  const Ran told = drill({"--rebuild"});
  EXPECT_EQ(told.exit, 1);
  EXPECT_THAT(told.out, HasSubstr("a lost seal, from its copy: FAILED"));
  EXPECT_THAT(told.out, HasSubstr("a lost index, from its volumes: the volumes of set 1 give all of its"));
}

TEST_F(DrillVerb, GivesUpCleanlyWhenKilledOrStopped) {
  define();
  for (unsigned i = 0; i < 20; ++i)
    write_file(path("calls-" + std::to_string(i) + ".wav"), noise(i, 4u << 20));
  run();
  for (const int signal : {SIGTERM, SIGKILL}) {
    const pid_t child = desk_.program.start({"drill", "wardens", "--quiet"});
    usleep(60000);
    kill(child, signal);
    Program::wait(child);
  }
  EXPECT_EQ(drill({"--files", "3"}).exit, 0);
  EXPECT_TRUE(left().empty());
}

class AgentDrill : public AgentTest {
 protected:
  Json drills() { return status()["jobs"][0]["drills"]; }
};

TEST_F(AgentDrill, IsMadeByTimesOfItsOwn) {
  write_file(desk_.source() + "/list.csv", "Gannet,1\n");
  ASSERT_EQ(desk_.define({"--check-drill", "daily at 14:00"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("No restore was rehearsed yet. The next: 2027-03-01 14:00."));
  begin_agent();
  let_pass_to("2027-03-01T13:59:59Z");
  ASSERT_TRUE(comes([&] { return !drills()["last"].is_null(); })) << drills();
  EXPECT_EQ(drills()["last"]["exit-code"], 0);
  const Ran good = desk_({"status"});
  EXPECT_EQ(good.exit, 0);
  EXPECT_THAT(good.out, HasSubstr("2 of 2 files came back as they were saved."));
  EXPECT_TRUE(status()["jobs"][0]["checks"]["last"].is_null()) << "a drill is no check of everything";
  // What is wrong needs a look.
  const std::string volume = desk_.set_folder(1) + "/data-001.kvol";
  std::string content = read_file(volume);
  content[200] ^= 1;
  write_file(volume, content);
  let_pass_to("2027-03-02T13:59:59Z");
  ASSERT_TRUE(comes([&] { return drills()["last"]["exit-code"] == 4; })) << drills();
  const Ran bad = desk_({"status"});
  EXPECT_EQ(bad.exit, 1);
  EXPECT_THAT(bad.out, HasSubstr("0 of 2 files came back as they were saved: kestrum drill wardens"));
}

TEST_F(AgentDrill, AlsoByATimerOfOnesOwn) {
  write_file(desk_.source() + "/list.csv", "Gannet,1\n");
  ASSERT_EQ(desk_.define({"--check-drill", "daily at 14:00"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  clock_.set("2027-03-01T14:05:00Z", 0);
  const Ran due = desk_({"run", "--due", "--quiet"});
  EXPECT_EQ(due.exit, 0) << due.err;
  EXPECT_THAT(due.out, HasSubstr("wardens was rehearsed: 2 of 2 files came back as they were saved"));
  EXPECT_THAT(desk_({"run", "--due", "--quiet"}).out, HasSubstr("Nothing is due."));
}

}  // namespace
}  // namespace kestrum::test
