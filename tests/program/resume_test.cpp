// The built program, broken off and gone on with.
#include <gmock/gmock.h>
#include <signal.h>
#include <unistd.h>

#include <chrono>
#include <cstdlib>
#include <iostream>
#include <nlohmann/json.hpp>
#include <thread>

#include "program/desk.hpp"
#include "support/extent.hpp"
#include "support/random_kills.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::Not;

class Resuming : public testing::Test {
 protected:
  static constexpr std::uint64_t each = 1u << 20;
  const unsigned files = extent("KESTRUM_RESUME_MIB", 96);
  const std::uint64_t all = files * each;
  void SetUp() override {
    for (unsigned i = 0; i < files; ++i)
      write_file(desk_.source() + "/sounds/" + std::to_string(i) + ".wav", noise(i, each));
    // Old enough for their times to be trusted.
    const std::string age = "find '" + desk_.source() + "' -exec touch -d '1 hour ago' {} +";
    ASSERT_EQ(std::system(age.c_str()), 0);
    std::this_thread::sleep_for(std::chrono::seconds(4));
    ASSERT_EQ(desk_.define({"--check-after-run", "nothing"}).exit, 0);
  }
  std::uint64_t written() const {
    std::uint64_t bytes = 0;
    std::error_code code;
    for (const auto& one : fs::recursive_directory_iterator(desk_.drive(), code)) {
      if (one.path().extension() == ".kvol") bytes += one.file_size(code);
    }
    return bytes;
  }
  // Starts a run and returns once it has written so much, or has ended.
  pid_t run_until(std::uint64_t bytes) {
    const pid_t run = desk_.program.start({"run", "wardens", "--quiet"});
    for (int i = 0; i < 4000 && written() < bytes && kill(run, 0) == 0; ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(2));
    return run;
  }
  nlohmann::json run_to_the_end() {
    const Ran ran = desk_({"run", "wardens", "--json"});
    EXPECT_EQ(ran.exit, 0) << ran.out << ran.err;
    return nlohmann::json::parse(ran.out, nullptr, false);
  }
  void expect_all_there(int point) {
    const std::string to = desk_.folder / "back";
    EXPECT_EQ(desk_({"restore", "wardens", desk_.source(), "--at", std::to_string(point), "--to", to,
                     "--with-owners", "--quiet"})
                  .exit,
              0);
    EXPECT_EQ(compare_snapshots(take_snapshot(desk_.source()), take_snapshot(to + "/source")), "");
    fs::remove_all(to);
    EXPECT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, 0);
  }
  Desk desk_;
};

TEST_F(Resuming, AKilledRunIsGoneOnWith) {
  const pid_t run = run_until(all / 2);
  kill(run, SIGKILL);
  ASSERT_EQ(Program::wait(run), -SIGKILL);
  const std::uint64_t there = written();
  const Ran points = desk_({"points", "wardens"});
  EXPECT_THAT(points.out, HasSubstr("Point 1 is not finished: "));
  EXPECT_THAT(points.out,
              HasSubstr("The next run goes on with it; to clear it: kestrum stop wardens --discard"));
  EXPECT_THAT(desk_({"status", "wardens"}).out, HasSubstr("point 1 is not finished"));
  const auto document = nlohmann::json::parse(desk_({"points", "wardens", "--json"}).out);
  EXPECT_EQ(document["destinations"][0]["unfinished"]["bytes"], there);
  const auto done = run_to_the_end();
  const std::uint64_t read = done["runs"][0]["totals"]["read-bytes"];
  // What was finished and is read again: what lies behind the last journal.
  const double again = static_cast<double>(read + there) - static_cast<double>(all);
  EXPECT_LT(again / static_cast<double>(there), files > 96 ? 0.05 : 0.5);
  std::printf("killed when %llu of %llu MiB were written; the next run read %llu MiB\n",
              static_cast<unsigned long long>(there >> 20), static_cast<unsigned long long>(all >> 20),
              static_cast<unsigned long long>(read >> 20));
  EXPECT_THAT(desk_({"points", "wardens"}).out, Not(HasSubstr("not finished")));
  expect_all_there(1);
}

TEST_F(Resuming, StopKeepsAndDiscardClears) {
  const pid_t run = run_until(all / 4);
  EXPECT_EQ(desk_({"stop", "wardens"}).exit, 0);
  EXPECT_EQ(Program::wait(run), 11);
  EXPECT_THAT(desk_({"points", "wardens"}).out, HasSubstr("Point 1 is not finished"));
  EXPECT_THAT(desk_({"stop", "wardens", "--discard"}).out, HasSubstr("Cleared what was left of point 1"));
  EXPECT_EQ(written(), 0u);
  EXPECT_THAT(desk_({"stop", "wardens", "--discard"}).out, HasSubstr("Nothing is left"));
  const pid_t other = run_until(all / 4);
  EXPECT_EQ(desk_({"stop", "wardens", "--discard"}).exit, 0);
  EXPECT_EQ(Program::wait(other), 11);
  EXPECT_EQ(written(), 0u);
  // Nor is it remembered, while the drive is away.
  fs::rename(desk_.drive(), desk_.folder / "away");
  EXPECT_THAT(desk_({"status", "wardens"}).out, Not(HasSubstr("not finished")));
  fs::rename(desk_.folder / "away", desk_.drive());
  run_to_the_end();
}

// Each killed at some moment, until one comes through.
TEST_F(Resuming, KilledAtRandomMoments) {
  const unsigned wanted = extent("KESTRUM_KILLS", 6);
  std::mt19937 random(2027);
  RandomKills kills(2028, 320000);
  unsigned points = 0;
  for (unsigned round = 0; kills.killed() < wanted && round < 4 * wanted; ++round) {
    // A few files change each time, and one is gone.
    for (int i = 0; i < 5; ++i) {
      const unsigned which = static_cast<unsigned>(random() % files);
      write_file(desk_.source() + "/sounds/" + std::to_string(which) + ".wav",
                 noise(static_cast<unsigned>(random()), each));
    }
    const bool through = round % 4 == 3;
    const pid_t run = desk_.program.start({"run", "wardens", "--quiet"});
    if (through || !kills.kill(run)) {
      EXPECT_EQ(through ? Program::wait(run) : kills.exit(), 0);
      const auto list = nlohmann::json::parse(desk_({"points", "wardens", "--json"}).out)["points"];
      expect_all_there(list.back()["point"]);
      ++points;
    }
  }
  const auto done = run_to_the_end();
  expect_all_there(done["runs"][0]["point"]);
  EXPECT_EQ(kills.killed(), wanted);
  std::cout << kills.killed() << " runs killed, " << points + 1
            << " points made of what they left: all as they should be\n";
}

}  // namespace
}  // namespace kestrum::test
