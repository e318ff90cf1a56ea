#include "cli/asker.hpp"

#include <termios.h>
#include <unistd.h>

#include <charconv>
#include <cstdio>

#include "base/run_control.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"

namespace kestrum {
namespace {

[[noreturn]] void give_up() {
  out("\n");
  throw Stopped{"given up; nothing was saved"};
}

// One line; ends with Ctrl-C too, which only interrupts the reading.
std::string read_line() {
  std::fflush(stdout);
  std::string text;
  char c = 0;
  while (true) {
    ssize_t n = read(STDIN_FILENO, &c, 1);
    if (n <= 0) give_up();
    if (c == '\n') return text;
    text += c;
    if (text.size() > 4096) return text;
  }
}

}  // namespace

// Broken in the code; the screen breaks it where it wants.
static std::string one_line(std::string text) {
  for (std::size_t at = text.find("\n"); at != std::string::npos; at = text.find("\n", at))
    text.replace(at, text.find_first_not_of(' ', at + 1) - at, " ");
  return text;
}

std::string Asker::line(const std::string& prompt, const std::string& help) {
  ++asked_;
  while (true) {
    out("{} ", prompt);
    std::string answer(trim(read_line()));
    if (answer == "<") throw WentBack{};
    if (answer != "?") return answer;
    out("\n{}\n  An empty answer takes what stands in brackets, < goes back, Ctrl-C gives up.\n\n",
        one_line(help));
  }
}

std::string Asker::text(const std::string& question, const std::string& fallback, const std::string& help) {
  std::string answer = line(question + (fallback.empty() ? "" : " [" + fallback + "]") + ":", help);
  return answer.empty() ? fallback : answer;
}

std::size_t Asker::choose(const std::string& question, const std::vector<std::string>& choices,
                          std::size_t usual, const std::string& help) {
  for (std::size_t i = 0; i < choices.size(); ++i) out("  {}  {}\n", i + 1, choices[i]);
  while (true) {
    std::string answer = text(question, std::to_string(usual + 1), help);
    std::size_t number = 0;
    auto [end, code] = std::from_chars(answer.data(), answer.data() + answer.size(), number);
    if (code == std::errc() && end == answer.data() + answer.size() && number >= 1 &&
        number <= choices.size())
      return number - 1;
    out("  A number from 1 to {} is wanted.\n", choices.size());
  }
}

bool Asker::yes(const std::string& question, bool usual, const std::string& help) {
  while (true) {
    std::string answer = line(question + (usual ? " [Y/n]:" : " [y/N]:"), help);
    if (answer.empty()) return usual;
    if (answer == "y" || answer == "Y" || answer == "yes") return true;
    if (answer == "n" || answer == "N" || answer == "no") return false;
    out("  Answer y or n.\n");
  }
}

std::string Asker::secret(const std::string& question) {
  out("{}: ", question);
  std::fflush(stdout);
  struct Silence {
    termios before{};
    Silence() {
      tcgetattr(STDIN_FILENO, &before);
      termios silent = before;
      silent.c_lflag &= ~static_cast<tcflag_t>(ECHO);
      tcsetattr(STDIN_FILENO, TCSADRAIN, &silent);
    }
    ~Silence() { tcsetattr(STDIN_FILENO, TCSADRAIN, &before); }
  };
  std::string answer;
  {
    Silence silence;
    answer = read_line();
  }
  out("\n");
  if (answer == "<") throw WentBack{};
  return answer;
}

void Asker::heading(const std::string& text) {
  const char* on = bold_ ? "\033[1m" : "";
  const char* off = bold_ ? "\033[0m" : "";
  out("\n{}{}{}\n", on, text, off);
}
}  // namespace kestrum
