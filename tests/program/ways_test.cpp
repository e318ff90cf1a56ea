// Ways in as a technician meets them: changed, added, taken away, tried, and found nowhere they should not
// be.
#include <gmock/gmock.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <fstream>
#include <iostream>
#include <nlohmann/json.hpp>
#include <thread>

#include "archive/leftover.hpp"
#include "program/desk.hpp"
#include "support/extent.hpp"
#include "support/random_kills.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::Not;

class Ways : public testing::Test {
 protected:
  Ways() {
    write_file(desk_.source() + "/list.csv", "SP001100,Turnstone\n");
    for (const char* name : {"pass-2", "pass-3"}) {
      write_file(desk_.folder / name, std::string("two terns in the fog ") + name + "\n");
      chmod((desk_.folder / name).c_str(), 0600);
    }
  }
  std::string source(const std::string& name) const { return "file:" + (desk_.folder / name); }
  void run(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words{"run", "wardens"};
    words.insert(words.end(), more.begin(), more.end());
    const Ran ran = desk_(words);
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  int opens(const std::string& name) {
    return desk_({"browse", desk_.drive(), "/", "--passphrase", source(name)}).exit;
  }
  Desk desk_;
};

TEST_F(Ways, AChangeReachesTheDrivesThatAreThere) {
  const std::string second = desk_.folder / "second";
  fs::create_directories(second);
  ASSERT_EQ(desk_.define({"--where-destinations", second, "--where-use", "all connected"}).exit, 0);
  run();
  run({"--kind", "full"});
  fs::rename(second, desk_.folder / "away");
  const Ran changed = desk_({"passphrase", "change", "wardens", "--new", source("pass-2")});
  EXPECT_EQ(changed.exit, 1) << changed.err;
  EXPECT_THAT(changed.out, HasSubstr("changed at 2 of 2 points"));
  EXPECT_THAT(changed.out, HasSubstr("is not there; its sets open as before"));
  EXPECT_THAT(changed.out, HasSubstr("kestrum run wardens --kind full"));
  EXPECT_THAT(desk_({"job", "show", "wardens"}).out, HasSubstr("pass-2"));
  EXPECT_EQ(opens("pass-2"), 0);
  EXPECT_EQ(opens("pass"), 7);
  // The other drive comes: nothing is written to it that its own points do not open with.
  fs::rename(desk_.folder / "away", second);
  const Ran refused = desk_({"run", "wardens"});
  EXPECT_THAT(refused.err, HasSubstr("kestrum passphrase change wardens --old SOURCE"));
  const Ran completed = desk_({"passphrase", "change", "wardens", "--old", source("pass")});
  EXPECT_EQ(completed.exit, 0) << completed.err;
  EXPECT_EQ(desk_({"browse", second, "/", "--passphrase", source("pass-2")}).exit, 0);
  EXPECT_EQ(desk_({"browse", second, "/", "--passphrase", source("pass")}).exit, 7);
  run();
}

TEST_F(Ways, AreTriedBeforeTheyAreNeeded) {
  ASSERT_EQ(desk_({"recovery", "create", desk_.folder / "office", "--same-disk"}).exit, 0);
  ASSERT_EQ(desk_.define().exit, 0);
  run();
  run({"--kind", "full"});
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("never"));
  // That the job's own file opens it proves nothing of what a person has.
  const Ran own = desk_({"passphrase", "test", "wardens"});
  EXPECT_EQ(own.exit, 0) << own.err;
  EXPECT_THAT(own.out, HasSubstr("this passphrase opens all of 2 points in 2 chains"));
  EXPECT_THAT(own.out, HasSubstr("--passphrase ask"));
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("never"));
  const Ran wrong = desk_({"passphrase", "test", "wardens", "--passphrase", source("pass-2")});
  EXPECT_EQ(wrong.exit, 7);
  EXPECT_THAT(wrong.out, HasSubstr("opens 0 of 2 points"));
  const Ran typed = desk_.program.run_on_terminal({"passphrase", "test", "wardens", "--passphrase", "ask"},
                                                  ": ", "tern in the fog\n");
  EXPECT_EQ(typed.exit, 0) << typed.out;
  EXPECT_THAT(desk_({"status"}).out, AllOf(HasSubstr("just now"), Not(HasSubstr("never"))));
  EXPECT_EQ(
      nlohmann::json::parse(desk_({"status", "--json"}).out)["jobs"][0]["destinations"][0]["way-in-tried"]
          .is_string(),
      true);
  // Of another passphrase nothing is proved yet.
  ASSERT_EQ(desk_({"passphrase", "change", "wardens", "--new", source("pass-2")}).exit, 0);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("never"));
  // A recovery key that was made later.
  const std::string office = desk_.folder / "office";
  EXPECT_EQ(desk_({"passphrase", "test", "wardens", "--recovery-key", office}).exit, 7);
  const Ran added = desk_({"recovery", "add", "wardens", office + ".pub"});
  EXPECT_EQ(added.exit, 0) << added.err;
  EXPECT_THAT(added.out, HasSubstr("changed at 2 of 2 points"));
  EXPECT_EQ(desk_({"passphrase", "test", "wardens", "--recovery-key", office}).exit, 0);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("just now"));
  // With nothing but the drive.
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "none";
  const auto json = nlohmann::json::parse(
      desk_({"passphrase", "test", desk_.drive(), "--recovery-key", office, "--json"}).out);
  EXPECT_EQ(json["destinations"][0]["opens"], true);
  EXPECT_EQ(json["destinations"][0]["chains"].size(), 2u);
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "home";
  EXPECT_EQ(desk_({"recovery", "remove", "wardens", office + ".pub"}).exit, 0);
  EXPECT_EQ(desk_({"passphrase", "test", "wardens", "--recovery-key", office}).exit, 7);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("never"));
}

TEST_F(Ways, ATypedPassphraseIsAskedForTwice) {
  ASSERT_EQ(desk_.define().exit, 0);
  run();
  const std::vector<std::string> words{"passphrase", "change", "wardens", "--new", "ask"};
  const Ran slip = desk_.program.converse(words, {{": ", "puffin under the cliff\n"}, {": ", "puffin\n"}});
  EXPECT_EQ(slip.exit, 7) << slip.out;
  EXPECT_EQ(opens("pass"), 0);
  const Ran changed =
      desk_.program.converse(words, {{": ", "puffin under the cliff\n"}, {": ", "puffin under the cliff\n"}});
  EXPECT_EQ(changed.exit, 0) << changed.out;
  EXPECT_THAT(desk_({"job", "show", "wardens"}).out, HasSubstr("asked for"));
  EXPECT_EQ(opens("pass"), 7);
  write_file(desk_.pass(), "puffin under the cliff\n");
  EXPECT_EQ(opens("pass"), 0);
  // Nobody is there to be asked.
  EXPECT_EQ(desk_({"passphrase", "change", "wardens", "--new", source("pass-2")}).exit, 7);
}

TEST_F(Ways, NonsenseIsRefused) {
  ASSERT_EQ(desk_.define().exit, 0);
  run();
  EXPECT_EQ(desk_({"passphrase", "change", "wardens", "--new", "tern in the fog"}).exit, 2);
  EXPECT_EQ(desk_({"passphrase", "change", "nobody", "--new", source("pass-2")}).exit, 2);
  EXPECT_EQ(desk_({"passphrase", "change", "wardens", "--new", source("none")}).exit, 7);
  EXPECT_EQ(desk_({"recovery", "add", "wardens", desk_.pass()}).exit, 7);
  EXPECT_EQ(desk_({"passphrase", "remove", "wardens", "--old", source("pass")}).exit, 2);
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--protect-encryption", "none"}).exit, 0);
  const Ran open = desk_({"passphrase", "change", "wardens", "--new", source("pass-2")});
  EXPECT_EQ(open.exit, 2);
  EXPECT_THAT(open.err, HasSubstr("is not encrypted"));
}

// Each killed at some moment of the change; whatever it was, the job's file names what opens everything.
TEST_F(Ways, AChangeKilledAtRandomMoments) {
  const unsigned wanted = extent("KESTRUM_KILLS", 8);
  ASSERT_EQ(desk_.define({"--check-after-run", "nothing", "--how-renew", "every 5 sets"}).exit, 0);
  constexpr int points = 20;
  for (int i = 0; i < points; ++i) {
    write_file(desk_.source() + "/list-" + std::to_string(i), noise(static_cast<unsigned>(i), 5000));
    run({"--quiet"});
  }
  const Snapshot there = take_snapshot(desk_.source());
  ASSERT_EQ(desk_({"passphrase", "change", "wardens", "--new", source("pass-2")}).exit, 0);
  RandomKills kills(2027);
  unsigned half = 0, round = 0;
  std::string now = "pass-2", next = "pass";
  for (; kills.killed() < wanted && round < 2 * wanted; ++round) {
    kills.kill(desk_.program.start(
        {"passphrase", "change", "wardens", "--old", source(now), "--new", source(next)}));
    const Ran own = desk_({"passphrase", "test", "wardens"});
    EXPECT_EQ(own.exit, 0) << round << ": " << own.out << own.err;
    // Some sets have the new one already.
    const auto tried = nlohmann::json::parse(
        desk_({"passphrase", "test", "wardens", "--passphrase", source(next), "--json"}).out);
    std::uint64_t opened = 0;
    for (const auto& chain : tried["destinations"][0]["chains"])
      opened += chain["opened"].get<std::uint64_t>();
    half += opened > 0 ? 1 : 0;
    const Ran completed =
        desk_({"passphrase", "change", "wardens", "--old", source(now), "--new", source(next)});
    ASSERT_EQ(completed.exit, 0) << round << ": " << completed.err;
    EXPECT_EQ(desk_({"passphrase", "test", "wardens", "--passphrase", source(now)}).exit, 7);
    std::swap(now, next);
    if (round % 10 != 0 && kills.killed() != wanted) continue;
    run({"--quiet"});
    EXPECT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, 0);
    const std::string to = desk_.folder / "back";
    EXPECT_EQ(desk_({"restore", "wardens", desk_.source(), "--to", to, "--with-owners", "--quiet"}).exit, 0);
    EXPECT_EQ(compare_snapshots(there, take_snapshot(to + "/source")), "");
    fs::remove_all(to);
  }
  std::cout << kills.killed() << " of " << round << " changes killed, " << half
            << " of them when sets had the new passphrase already: nothing was lost\n";
}

// In a run that is held in its middle, passphrase and master key lie in locked memory only, and nowhere else.
class Secrets : public Ways {
 protected:
  struct Area {
    std::string name;
    bool in_dumps = true, locked = false;
    std::string bytes;
  };
  static std::vector<Area> memory_of(pid_t pid) {
    const std::string place = "/proc/" + std::to_string(pid);
    std::ifstream maps(place + "/smaps"), memory(place + "/mem", std::ios::binary);
    std::vector<Area> areas;
    std::string line, name;
    unsigned long long begin = 0, end = 0;
    bool readable = false;
    while (std::getline(maps, line)) {
      unsigned long long from = 0, to = 0;
      char read = '-';
      if (std::sscanf(line.c_str(), "%llx-%llx %c", &from, &to, &read) == 3) {
        begin = from;
        end = to;
        readable = read == 'r';
        name = line;
      }
      if (!line.starts_with("VmFlags:") || !readable || holds(name, "[vvar")) continue;
      Area area{.name = name, .bytes = std::string(end - begin, '\0')};
      area.in_dumps = !holds(line, " dd");
      area.locked = holds(line, " lo");
      memory.clear();
      memory.seekg(static_cast<std::streamoff>(begin));
      memory.read(area.bytes.data(), static_cast<std::streamsize>(area.bytes.size()));
      areas.push_back(std::move(area));
    }
    return areas;
  }
  // The run's master key, by the passphrase and what lies on the drive.
  SecretKey master() const {
    for (const auto& entry : fs::directory_iterator(desk_.job_folder())) {
      const std::string mark = entry.path() / open_name;
      if (!fs::exists(mark)) continue;
      const std::string text = read_file(mark);
      const OpenMark open = decode_open_mark(to_bytes(text), mark);
      KeyRing ring([] { return SecretText("tern in the fog"); });
      return ring.unlock(open.keys, open.chain);
    }
    throw std::runtime_error("no run goes on");
  }
};

TEST_F(Secrets, AreInLockedMemoryAndNowhereElse) {
  for (unsigned i = 0; i < 8; ++i)
    write_file(desk_.source() + "/" + std::to_string(i) + ".wav", noise(i, 2u << 20));
  ASSERT_EQ(desk_.define({"--how-read-limit", "2 MiB/s"}).exit, 0);
  const pid_t going = desk_.program.start({"run", "wardens"});
  std::this_thread::sleep_for(std::chrono::seconds(3));
  ASSERT_EQ(kill(going, SIGSTOP), 0);
  const std::string place = "/proc/" + std::to_string(going);
  const SecretKey key = master();
  const std::string raw(as_text(key.view()));
  const std::vector<std::string> secrets{"tern in the fog", raw, to_hex(key.view())};
  auto expect_none = [&](const std::string& text, const std::string& where) {
    for (const std::string& secret : secrets) EXPECT_EQ(text.find(secret), std::string::npos) << where;
  };
  expect_none(read_file(place + "/cmdline"), "arguments");
  expect_none(read_file(place + "/environ"), "environment");
  bool in_locked_memory = false;
  for (const Area& area : memory_of(going)) {
    if (area.in_dumps) expect_none(area.bytes, area.name);
    if (!area.in_dumps && area.locked)
      in_locked_memory = in_locked_memory || area.bytes.find(raw) != std::string::npos;
  }
  EXPECT_TRUE(in_locked_memory) << "the search finds nothing where it must";
  // There are no dumps anyway.
  EXPECT_THAT(read_file(place + "/limits"), testing::ContainsRegex("Max core file size +0 +0"));
  kill(going, SIGCONT);
  kill(going, SIGABRT);
  int status = 0;
  waitpid(going, &status, 0);
  EXPECT_TRUE(WIFSIGNALED(status));
  EXPECT_FALSE(WCOREDUMP(status));
  // And in none of the files that the program keeps, on this machine and on the drive.
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--how-read-limit", "200 MiB/s"}).exit, 0);
  run();
  ASSERT_EQ(desk_({"passphrase", "change", "wardens", "--new", source("pass-2")}).exit, 0);
  unsigned files = 0;
  for (const char* folder : {"home", "drive"}) {
    for (const auto& entry : fs::recursive_directory_iterator(desk_.folder / folder)) {
      if (!entry.is_regular_file()) continue;
      expect_none(read_file(entry.path()), entry.path());
      EXPECT_THAT(read_file(entry.path()), Not(HasSubstr("two terns in the fog"))) << entry.path();
      ++files;
    }
  }
  EXPECT_GT(files, 8u);
}

}  // namespace
}  // namespace kestrum::test
