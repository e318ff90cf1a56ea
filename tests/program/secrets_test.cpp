// Prompts that are broken off, who may read what is left behind, whom root believes, and commands that end
// when told.
#include <sys/stat.h>
#include <unistd.h>

#include <csignal>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

unsigned mode_of(const std::string& path) {
  struct stat status {};
  return stat(path.c_str(), &status) == 0 ? status.st_mode & 07777u : 0;
}

// The terminal is asked afterwards by a shell around the program, which lives through the key.
Ran break_off(Desk& desk, const std::string& key) {
  Program shell("/bin/sh");
  shell.environment = desk.program.environment;
  return shell.run_on_terminal({"-c", std::string("trap : INT QUIT; ") + KESTRUM_BINARY +
                                          " points wardens --passphrase ask > /dev/null; " + KESTRUM_BINARY +
                                          " run wardens; echo code $?; stty -a"},
                               "passphrase of", key);
}

TEST(Prompts, BrokenOffTheTerminalSpeaksAgain) {
  for (const char* key : {"\x03", "half a phrase\x03", "\x1c"}) {
    Desk desk;
    write_file(desk.source() + "/list", "x");
    Ran defined = desk({"job", "define", "wardens", "--what-folders", desk.source(), "--where-destinations",
                        desk.drive(), "--same-disk", "--protect-passphrase", "ask"});
    ASSERT_EQ(defined.exit, 0) << defined.err;
    Ran ran = break_off(desk, key);
    EXPECT_TRUE(holds(ran.out, "code 11")) << ran.out;
    EXPECT_FALSE(holds(ran.out, " -echo ")) << ran.out;
    EXPECT_TRUE(holds(ran.out, " echo ")) << ran.out;
  }
}

TEST(Closed, WhatIsLeftBehindIsTheOwnersAlone) {
  Desk desk;
  write_file(desk.source() + "/list", "x");
  desk.define();
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  std::string state = desk.folder / "home/state";
  EXPECT_EQ(mode_of(state + "/ledger.db"), 0600u);
  EXPECT_EQ(mode_of(state + "/job-state/wardens.json"), 0600u);
  for (const auto& entry : fs::directory_iterator(state + "/logs/wardens"))
    EXPECT_EQ(mode_of(entry.path()), 0600u) << entry.path();
  ASSERT_EQ(desk({"restore", "wardens", "/", "--to", desk.folder / "made/here"}).exit, 0);
  EXPECT_EQ(mode_of(desk.folder / "made/here"), 0700u);
}

TEST(Believed, RootTakesNothingFromOthers) {
  if (geteuid() != 0) GTEST_SKIP() << "it is root who must not believe";
  Desk desk;
  write_file(desk.source() + "/list", "x");
  desk.define();
  std::string pass = desk.pass(), job = desk.folder / "home/jobs/wardens.toml";
  auto refused = [&](int code, const char* what) {
    Ran ran = desk({"run", "wardens", "--quiet"});
    EXPECT_EQ(ran.exit, code) << what << ": " << ran.err;
    EXPECT_FALSE(holds(ran.err, "unexpected")) << ran.err;
  };
  ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  ASSERT_EQ(chown(pass.c_str(), 65534, 65534), 0);
  refused(7, "somebody else's passphrase file");
  ASSERT_EQ(chown(pass.c_str(), 0, 0), 0);
  fs::rename(pass, pass + ".real");
  fs::create_symlink(pass + ".real", pass);
  refused(7, "a link");
  fs::remove(pass);
  mkfifo(pass.c_str(), 0600);
  refused(7, "a FIFO");
  fs::remove(pass);
  fs::rename(pass + ".real", pass);
  ASSERT_EQ(chown(job.c_str(), 65534, 65534), 0);
  refused(2, "somebody else's job file");
  ASSERT_EQ(chown(job.c_str(), 0, 0), 0);
  chmod(job.c_str(), 0666);
  refused(2, "a job file that others may write");
  chmod(job.c_str(), 0644);
  EXPECT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
}

TEST(Believed, RootSaysWhenOthersMayWriteTheDestination) {
  if (geteuid() != 0) GTEST_SKIP() << "it is root who is told";
  Desk desk;
  write_file(desk.source() + "/list", "x");
  ASSERT_EQ(chown(desk.drive().c_str(), 65534, 65534), 0);
  EXPECT_TRUE(holds(desk.define().err, "can remove or exchange the archive sets"));
  EXPECT_TRUE(holds(desk({"run", "wardens"}).err, "chown root"));
  ASSERT_EQ(chown(desk.drive().c_str(), 0, 0), 0);
  EXPECT_FALSE(holds(desk({"run", "wardens"}).err, "chown root"));
}

TEST(Ending, EveryCommandEndsWhenTold) {
  Desk desk;
  write_file(desk.source() + "/list", noise(1, 100000));
  desk.define({"--how-renew", "never", "--keep-points", "5000 points", "--when-runs", "every 30 minutes"},
              false);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  for (int signal : {SIGINT, SIGTERM}) {
    pid_t running = desk.program.start({"forecast", "wardens", "--days", "3660", "--quiet"});
    usleep(400000);
    kill(running, signal);
    EXPECT_EQ(Program::wait(running), 11);
  }
}

}  // namespace
}  // namespace kestrum::test
