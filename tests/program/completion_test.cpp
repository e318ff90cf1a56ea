// Completion as it is met: a shell on a terminal, Tab.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "base/text.hpp"
#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

class Completion : public testing::Test {
 protected:
  Completion() {
    for (const char* name :
         {"sightings/2027 spring/list.csv", "sightings/2027 spring/map*.png", "songs/dawn.wav"})
      write_file(desk_.source() + "/" + name, "x");
    EXPECT_EQ(desk_.define().exit, 0);
    EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  }
  std::vector<std::string> suggested(std::vector<std::string> words) {
    words.insert(words.begin(), {"suggest", "--"});
    Ran ran = desk_(words);
    EXPECT_EQ(ran.exit, 0);
    EXPECT_EQ(ran.err, "");
    std::vector<std::string> lines = split(ran.out, '\n');
    lines.pop_back();
    return lines;
  }
  // Types lines into a shell; the prompt is ours, so that it is known when it waits.
  std::string typed(const std::string& shell, const std::vector<std::string>& words,
                    const std::vector<std::string>& lines) {
    Program program(shell);
    program.environment = desk_.program.environment;
    program.environment["TERM"] = "xterm";
    program.environment["HOME"] = desk_.folder.path();
    program.environment["PS1"] = "READY> ";
    std::vector<Program::Exchange> exchanges;
    for (const std::string& line : lines) exchanges.push_back({"READY> ", line + "\n"});
    exchanges.push_back({"READY> ", "exit\n"});
    Ran ran = program.converse(words, exchanges);
    EXPECT_EQ(ran.exit, 0) << ran.out;
    return ran.out;
  }
  std::string path_line() const {
    return "PATH=" + fs::path(KESTRUM_BINARY).parent_path().string() + ":$PATH";
  }
  Desk desk_;
};

TEST_F(Completion, KnowsVerbsOptionsJobsPointsAndPaths) {
  EXPECT_THAT(suggested({"re"}), ElementsAre("recovery", "repair", "report", "restore"));
  EXPECT_THAT(suggested({"job", "e"}), ElementsAre("edit", "enable"));
  EXPECT_THAT(suggested({"agent", ""}), ElementsAre("install", "remove"));
  EXPECT_THAT(suggested({"status", "wa"}), ElementsAre("wardens"));
  EXPECT_THAT(suggested({"help", "usu"}), ElementsAre("usual-list"));
  EXPECT_THAT(suggested({"restore", "wa"}), ElementsAre("wardens"));
  EXPECT_THAT(suggested({"restore", "wardens", "--at", ""}), ElementsAre("1", "latest", "yesterday"));
  EXPECT_THAT(suggested({"restore", "wardens", "--clash", "keep-n"}), ElementsAre("keep-newer"));
  EXPECT_THAT(suggested({"restore", "wardens", desk_.source() + "/s"}),
              ElementsAre(desk_.source() + "/sightings/", desk_.source() + "/songs/"));
  EXPECT_THAT(
      suggested({"browse", desk_.drive(), "--passphrase", "file:" + desk_.pass(), desk_.source() + "/so"}),
      ElementsAre(desk_.source() + "/songs/"));
  // Nothing to say, nothing said: no key, no such job, no such point, nonsense.
  EXPECT_THAT(suggested({"browse", desk_.drive(), "/t"}), IsEmpty());
  EXPECT_THAT(suggested({"restore", "nobody", "/"}), IsEmpty());
  EXPECT_THAT(suggested({"restore", "wardens", "--at", "99", "/t"}), IsEmpty());
  EXPECT_THAT(suggested({"frobnicate", "x"}), IsEmpty());
  EXPECT_THAT(suggested({"restore", "wardens", "--to", ""}), IsEmpty());
}

TEST_F(Completion, WorksInBash) {
  std::string script = KESTRUM_SOURCE "/completions/kestrum.bash";
  std::string out = typed(
      "/bin/bash", {"--norc", "-i"},
      {path_line(), "source '" + script + "'", "kestrum bro\t ward\t " + desk_.source() + "/sig\t2027\t\t"});
  EXPECT_THAT(out, HasSubstr("list.csv")) << out;
  EXPECT_THAT(out, HasSubstr("Point 1 (full"));
}

TEST_F(Completion, WorksInZsh) {
  if (!fs::exists("/usr/bin/zsh")) GTEST_SKIP() << "there is no zsh here";
  std::string out = typed(
      "/usr/bin/zsh", {"-f", "-i"},
      {path_line(), "fpath=('" KESTRUM_SOURCE "/completions' $fpath)",
       "autoload -Uz compinit && compinit -u -D", "kestrum bro\t ward\t " + desk_.source() + "/sig\t2027\t"});
  EXPECT_THAT(out, HasSubstr("list.csv")) << out;
  EXPECT_THAT(out, HasSubstr("Point 1 (full"));
}

}  // namespace
}  // namespace kestrum::test
