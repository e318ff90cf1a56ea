// Documents that repeat what the code says are held to it.
#include "base/exit_codes.hpp"
#include "program/desk.hpp"

namespace kestrum::test {
namespace {

TEST(Documents, TheExitCodesAreThoseOfTheCode) {
  std::string page = read_file(std::string(KESTRUM_SOURCE) + "/docs/EXIT-CODES.md");
  for (const ExitCode& code : exit_codes()) {
    std::string row = "| " + std::to_string(code.code) + " | " + std::string(code.name) + " | " +
                      std::string(code.meaning) + " |";
    EXPECT_TRUE(holds(page, row)) << row;
  }
  std::vector<ExitCode> sorted(exit_codes().begin(), exit_codes().end());
  std::sort(sorted.begin(), sorted.end(),
            [](const auto& a, const auto& b) { return a.severity > b.severity; });
  std::string order;
  for (const ExitCode& code : sorted) order += (order.empty() ? "" : ", ") + std::to_string(code.code);
  EXPECT_TRUE(holds(page, "worst first: " + order + ".")) << order;
}

TEST(Documents, EveryVerbHasHelpWithExamples) {
  Desk desk;
  Ran overview = desk({"help"});
  for (const char* verb : {"job define", "job list", "job show", "job check", "job remove", "preview", "run",
                           "points", "browse", "find", "restore", "verify", "status", "history"}) {
    EXPECT_TRUE(holds(overview.out, verb));
    std::vector<std::string> words{"help"};
    std::string text = verb;
    if (std::size_t blank = text.find(' '); blank != std::string::npos) {
      words.push_back(text.substr(0, blank));
      words.push_back(text.substr(blank + 1));
    } else {
      words.push_back(text);
    }
    Ran help = desk(words);
    EXPECT_EQ(help.exit, 0);
    EXPECT_TRUE(holds(help.out, "Examples:")) << verb;
    std::vector<std::string> other(words.begin() + 1, words.end());
    other.push_back("--help");
    EXPECT_EQ(desk(other).out, help.out);
  }
}

}  // namespace
}  // namespace kestrum::test
