// verify as a technician meets it: in parts, broken off, against the disk, and with nonsense.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;
using testing::Not;

class Verify : public testing::Test {
 protected:
  void SetUp() override {
    ASSERT_EQ(desk_.define({"--check-after-run", "nothing", "--how-volume-size", "1 MiB"}, false).exit, 0);
    for (unsigned i = 0; i < 3; ++i) {
      write_file(desk_.source() + "/sounds-" + std::to_string(i), noise(i, 3u << 20));
      ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
    }
  }
  nlohmann::json check(std::vector<std::string> more, int exit = 0) {
    std::vector<std::string> words{"verify", "wardens", "--json"};
    words.insert(words.end(), more.begin(), more.end());
    const Ran ran = desk_(words);
    EXPECT_EQ(ran.exit, exit) << ran.out << ran.err;
    return nlohmann::json::parse(ran.out);
  }
  Desk desk_;
};

TEST_F(Verify, PartsComeToAnEnd) {
  EXPECT_THAT(desk_({"points", "wardens"}).out, HasSubstr("never"));
  const Ran first = desk_({"verify", "wardens", "--budget", "2 MiB", "--quiet"});
  EXPECT_EQ(first.exit, 0);
  EXPECT_THAT(first.out, HasSubstr("of this round are left: the next check in parts goes on from here."));
  EXPECT_THAT(desk_({"points", "wardens"}).out, HasSubstr(" %"));
  int times = 1;
  while (!check({"--budget", "2 MiB"})["parts"][0]["complete"] && times < 10) ++times;
  EXPECT_GE(times, 2);
  EXPECT_LT(times, 8);
  const Ran points = desk_({"points", "wardens"});
  EXPECT_THAT(points.out, Not(HasSubstr("never")));
  EXPECT_THAT(points.out, Not(HasSubstr(" % ")));
  const auto read_back =
      nlohmann::json::parse(desk_({"points", "wardens", "--json"}).out)["points"][0]["read-back"];
  EXPECT_EQ(read_back["unpacked-bytes"], read_back["of-bytes"]);
  // A budget of time ends too; what there is here takes less.
  EXPECT_TRUE(check({"--budget", "5 minutes"})["parts"][0]["complete"]);
}

TEST_F(Verify, AKilledOneIsGoneOnWith) {
  const std::uint64_t all = check({})["parts"][0]["bytes"];
  bool went_on = false;
  for (int delay = 20; delay < 2000 && !went_on; delay += 20) {
    const pid_t pid = desk_.program.start({"verify", "wardens", "--anew", "--quiet"});
    usleep(static_cast<useconds_t>(delay) * 1000);
    kill(pid, SIGKILL);
    if (Program::wait(pid) != -SIGKILL) break;
    const auto rest = check({})["parts"][0];
    EXPECT_TRUE(rest["complete"]);
    EXPECT_LE(rest["bytes"], all);
    went_on = !rest["went-on-from"].is_null();
  }
  EXPECT_TRUE(went_on);
  EXPECT_TRUE(check({})["parts"][0]["went-on-from"].is_null());
}

TEST_F(Verify, AgainstTheDisk) {
  const Ran good = desk_({"verify", "wardens", "--depth", "source", "--quiet"});
  EXPECT_EQ(good.exit, 0);
  EXPECT_THAT(good.out, HasSubstr("Of the point's files 3 are on the disk as they were, byte for byte"));
  const std::string path = desk_.source() + "/sounds-1";
  struct stat before {};
  ASSERT_EQ(stat(path.c_str(), &before), 0);
  std::string content = read_file(path);
  content[70000] = static_cast<char>(content[70000] + 1);
  write_file(path, content);
  const timespec times[2] = {before.st_atim, before.st_mtim};
  ASSERT_EQ(utimensat(AT_FDCWD, path.c_str(), times, 0), 0);
  const Ran wrong = desk_({"verify", "wardens", "--depth", "source", "--quiet"});
  EXPECT_EQ(wrong.exit, 1);
  EXPECT_THAT(wrong.out, HasSubstr("1 file has other content now, at the same size and time:\n  " + path));
  EXPECT_EQ(check({"--depth", "source"}, 1)["parts"][0]["source"]["wrong-files"][0]["path"], path);
}

TEST_F(Verify, ASampleSaysItsNumber) {
  EXPECT_THAT(desk_({"verify", "wardens", "--depth", "sample", "--quiet"}).out,
              HasSubstr(", a sample (seed "));
  const auto first = check({"--depth", "sample", "--seed", "5", "--share", "20%"});
  EXPECT_EQ(first["parts"][0]["seed"], 5);
  EXPECT_EQ(check({"--depth", "sample", "--seed", "5", "--share", "20%"})["parts"], first["parts"]);
}

TEST_F(Verify, NonsenseIsRefused) {
  for (const std::vector<std::string>& more :
       std::vector<std::vector<std::string>>{{"--budget", "some"},
                                             {"--budget", "0 MiB"},
                                             {"--budget", "30"},
                                             {"--budget", "1 MiB", "--depth", "quick"},
                                             {"--budget", "1 MiB", "--at", "2"},
                                             {"--anew", "--depth", "sample"},
                                             {"--share", "10%"},
                                             {"--share", "0%", "--depth", "sample"},
                                             {"--seed", "x", "--depth", "sample"},
                                             {"--depth", "some"}}) {
    std::vector<std::string> words{"verify", "wardens"};
    words.insert(words.end(), more.begin(), more.end());
    const Ran ran = desk_(words);
    EXPECT_EQ(ran.exit, 2) << more[0] << " " << more[1] << ": " << ran.out;
    EXPECT_NE(ran.err, "");
  }
}

TEST_F(Verify, AfterARunAllOfItIfWished) {
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--check-after-run", "read back all"}).exit, 0);
  EXPECT_THAT(desk_({"job", "show", "wardens"}).out,
              HasSubstr("what was written is read back, unpacked and checked"));
  const auto shares = [&](const char* how) {
    EXPECT_EQ(desk_({"job", "edit", "wardens", "--check-after-run", how}).exit, 0);
    write_file(desk_.source() + "/new", how);
    EXPECT_THAT(desk_({"run", "wardens"}).out, HasSubstr("read back, good"));
    return nlohmann::json::parse(desk_({"points", "wardens", "--json"}).out)["points"].back()["read-back"];
  };
  const auto all = shares("read back all"), bytes = shares("read back");
  EXPECT_EQ(all["unpacked-bytes"], all["of-bytes"]);
  EXPECT_EQ(bytes["unpacked-bytes"], 0);
  EXPECT_EQ(bytes["bytes"], bytes["of-bytes"]);
}

}  // namespace
}  // namespace kestrum::test
