// The commands as people and scripts meet them: JSON, bare destinations, terminals.
#include <signal.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;

class Commands : public testing::Test {
 protected:
  void SetUp() override {
    write_file(desk_.source() + "/ringing/2027.csv", "ring,species\n");
    write_file(desk_.source() + "/odd\xff\nname", "odd");
    desk_.define();
    ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  }
  Json json(std::vector<std::string> words, int exit = 0) {
    words.push_back("--json");
    Ran ran = desk_(words);
    EXPECT_EQ(ran.exit, exit) << words[0] << ran.err;
    return Json::parse(ran.out);
  }
  Desk desk_;
};

TEST_F(Commands, EveryResultIsOneJsonDocument) {
  struct Case {
    std::vector<std::string> words;
    const char* name;
  };
  const std::vector<Case> cases{{{"job", "list"}, "jobs"},
                                {{"job", "show", "wardens"}, "job"},
                                {{"job", "check", "wardens"}, "job"},
                                {{"preview", "wardens"}, "preview"},
                                {{"run", "wardens"}, "run"},
                                {{"points", "wardens"}, "points"},
                                {{"browse", "wardens", desk_.source()}, "browse"},
                                {{"find", "wardens", "csv"}, "find"},
                                {{"verify", "wardens"}, "verify"},
                                {{"verify", "wardens", "--depth", "quick"}, "verify"},
                                {{"status"}, "status"},
                                {{"history", "wardens"}, "history"},
                                {{"history", "wardens", "--run", "1"}, "history-run"},
                                {{"restore", "wardens", "/", "--to", desk_.folder / "out"}, "restore"},
                                {{"job", "remove", "wardens"}, "job-removed"}};
  for (const Case& one : cases) {
    Json document = json(one.words);
    EXPECT_EQ(document["kestrum"], one.name);
    EXPECT_EQ(document["version"], 1);
  }
}

TEST_F(Commands, NamesThatAreNotUtf8AreExactInJson) {
  Json listing = json({"browse", "wardens", desk_.source()});
  bool found = false;
  for (const Json& child : listing["children"]) {
    if (!child.contains("path-hex")) continue;
    found = true;
    EXPECT_TRUE(child["path-hex"].get<std::string>().ends_with("6f6464ff0a6e616d65"));
  }
  EXPECT_TRUE(found);
  EXPECT_TRUE(holds(desk_({"browse", "wardens", desk_.source()}).out, "odd\\xff\\nname"));
}

TEST_F(Commands, EverythingWorksWithOnlyTheDriveAndThePassphrase) {
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "no/such/home";
  std::string key = "file:" + desk_.pass();
  for (const std::string& subject :
       {desk_.drive(), desk_.job_folder(), desk_.set_folder(1), desk_.set_folder(1) + "/data-001.kvol"}) {
    EXPECT_EQ(desk_({"points", subject}).exit, 0) << subject;
    EXPECT_EQ(desk_({"browse", subject, "/", "--passphrase", key}).exit, 0) << subject;
    EXPECT_EQ(desk_({"find", subject, "2027", "--passphrase", key}).exit, 0) << subject;
    EXPECT_EQ(desk_({"verify", subject, "--passphrase", key}).exit, 0) << subject;
    std::string to = desk_.folder / "out";
    EXPECT_EQ(desk_({"restore", subject, desk_.source(), "--passphrase", key, "--to", to}).exit, 0)
        << subject;
    EXPECT_EQ(compare_snapshots(take_snapshot(desk_.source()), take_snapshot(to + "/source")), "");
    fs::remove_all(to);
  }
  Ran keyless = desk_({"browse", desk_.drive()});
  EXPECT_EQ(keyless.exit, 7);
  EXPECT_TRUE(holds(keyless.err, "no passphrase was given")) << keyless.err;
}

TEST_F(Commands, SeveralJobsOnADriveAreListedAndChosen) {
  ASSERT_EQ(desk_({"job", "define", "moths", "--what-folders", desk_.source(), "--same-disk",
                   "--where-destinations", desk_.drive(), "--protect-encryption", "none"})
                .exit,
            0);
  ASSERT_EQ(desk_({"run", "moths"}).exit, 0);
  Ran both = desk_({"points", desk_.drive() + "/"});
  EXPECT_EQ(both.exit, 2);
  EXPECT_TRUE(holds(both.err, "--machine skerry-1 --job moths")) << both.err;
  EXPECT_EQ(desk_({"points", desk_.drive() + "/", "--job", "moths"}).exit, 0);
  EXPECT_EQ(desk_({"points", "moths"}).exit, 0);
  EXPECT_EQ(json({"status", desk_.drive() + "/"})["jobs"].size(), 2u);
  Ran all = desk_({"run", "--all", "--quiet"});
  EXPECT_EQ(all.exit, 0) << all.err;
  EXPECT_TRUE(holds(all.out, "moths: done") && holds(all.out, "wardens: done"));
}

TEST_F(Commands, OnATerminalThereIsALivingLineAndAPromptWithoutEcho) {
  fs::remove(desk_.folder / "home/jobs/wardens.toml");
  ASSERT_EQ(desk_({"job", "define", "wardens", "--what-folders", desk_.source(), "--same-disk",
                   "--where-destinations", desk_.drive()})
                .exit,
            0);
  desk_.program.environment["TERM"] = "xterm";
  Ran ran = desk_.program.run_on_terminal({"run", "wardens"}, "passphrase of", "tern in the fog\n");
  EXPECT_EQ(ran.exit, 0) << ran.out;
  EXPECT_FALSE(holds(ran.out, "tern in the fog"));
  EXPECT_TRUE(holds(ran.out, "\r\033[K"));
  EXPECT_TRUE(holds(ran.out, "scanning"));
  EXPECT_TRUE(holds(ran.out, "\033[32mdone"));
  desk_.program.environment["NO_COLOR"] = "1";
  Ran plain = desk_.program.run_on_terminal({"run", "wardens"}, "passphrase of", "tern in the fog\n");
  EXPECT_FALSE(holds(plain.out, "\033[32m"));
  Ran piped = desk_({"run", "wardens"});
  EXPECT_EQ(piped.exit, 7);
  EXPECT_FALSE(holds(piped.err, "\033"));
}

TEST_F(Commands, AFirstPassphraseIsAskedForTwice) {
  ASSERT_EQ(desk_({"job", "define", "typed", "--what-folders", desk_.source(), "--same-disk",
                   "--where-destinations", desk_.drive()})
                .exit,
            0);
  desk_.program.environment["TERM"] = "xterm";
  Ran slip = desk_.program.run_on_terminal({"run", "typed"}, "passphrase of", "one\nother\n");
  EXPECT_EQ(slip.exit, 7) << slip.out;
  EXPECT_TRUE(holds(slip.out, "not the same"));
  EXPECT_EQ(desk_.program.run_on_terminal({"run", "typed"}, "passphrase of", "one\none\n").exit, 0);
  EXPECT_EQ(desk_.program.run_on_terminal({"run", "typed"}, "passphrase of", "one\n").exit, 0);
}

TEST_F(Commands, CtrlCStopsCleanly) {
  std::string noise(96u << 20, '\0');
  std::mt19937_64 random(3);
  for (std::size_t i = 0; i + 8 < noise.size(); i += 8) {
    std::uint64_t value = random() & 0x3f3f3f3f3f3f3f3f;
    std::copy_n(reinterpret_cast<const char*>(&value), 8, noise.begin() + static_cast<std::ptrdiff_t>(i));
  }
  write_file(desk_.source() + "/noise", noise);
  for (int signal : {SIGINT, SIGTERM, SIGHUP}) {
    pid_t pid = desk_.program.start({"run", "wardens"});
    bool begun = false;
    for (int i = 0; i < 2000 && !begun; ++i) {
      usleep(1000);
      std::string folder = desk_.set_folder(1 + 1);
      for (const auto& entry : fs::directory_iterator(desk_.job_folder()))
        begun = begun || entry.path().string().ends_with(".unfinished");
    }
    kill(pid, signal);
    EXPECT_EQ(Program::wait(pid), 11);
    EXPECT_EQ(json({"points", "wardens"})["points"].size(), 1u);
    EXPECT_EQ(json({"history", "wardens"})["runs"][0]["result"], "stopped");
  }
  EXPECT_EQ(desk_({"verify", "wardens"}).exit, 0);
}

TEST_F(Commands, ASimulatedClockIsSaid) {
  desk_.program.environment["KESTRUM_NOW"] = "2031-05-06T07:08:09Z";
  Ran ran = desk_({"run", "wardens"});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_TRUE(holds(ran.err, "the clock is simulated"));
  EXPECT_TRUE(holds(ran.out, "_2031-05-06_07-08_incremental"));
  desk_.program.environment["KESTRUM_NOW"] = "tomorrow";
  EXPECT_EQ(desk_({"status"}).exit, 2);
}

TEST_F(Commands, AMomentIsAnsweredByDatesNotByNumbers) {
  const std::string list = desk_.source() + "/ringing/2027.csv";
  auto run = [&](const std::string& now, const std::string& content) {
    desk_.program.environment["KESTRUM_NOW"] = now;
    write_file(list, content);
    ASSERT_EQ(desk_({"run", "wardens"}).exit, 0);
  };
  run("2041-03-01T10:00:00Z", "of the first");
  run("2041-03-03T10:00:00Z", "of the third");
  run("2041-03-02T10:00:00Z", "of the second, by a clock that was behind");
  auto at = [&](const std::string& moment) {
    fs::remove_all(desk_.folder / "out");
    EXPECT_EQ(
        desk_({"restore", "wardens", list, "--at", moment, "--to", desk_.folder / "out", "--quiet"}).exit, 0);
    return read_file(desk_.folder / "out/2027.csv");
  };
  EXPECT_EQ(at("2041-03-01"), "of the first");
  EXPECT_EQ(at("2041-03-02"), "of the second, by a clock that was behind");
  EXPECT_EQ(at("2041-03-03"), "of the third");
  EXPECT_EQ(at("latest"), "of the second, by a clock that was behind") << "the newest is what was made last";
}

TEST_F(Commands, TheLogHasTheProblemsFirst) {
  fs::remove_all(desk_.source());
  write_file(desk_.folder / "second/a", "x");
  write_file(desk_.folder / "home/jobs/wardens.toml",
             "[what]\nfolders = [\"" + desk_.source() + "\", \"" + (desk_.folder / "second") +
                 "\"]\n[where]\ndestinations = [\"" + desk_.drive() +
                 "\"]\n[protect]\npassphrase = \"file:" + desk_.pass() + "\"\n");
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 1);
  std::string log = read_file(desk_.folder / "home/state/logs/wardens/run-2.log");
  EXPECT_TRUE(log.starts_with("Job wardens, run 2: done with problems (exit code 1)")) << log;
  EXPECT_LT(log.find("Problems: 1"), log.find("What happened"));
  EXPECT_TRUE(holds(desk_({"history", "wardens", "--run", "2"}).out, "this source is not there"));
  EXPECT_EQ(desk_({"status"}).exit, 1);
}

}  // namespace
}  // namespace kestrum::test
