// Runs the built program as its users do: through pipes, or on a pseudo-terminal.
#pragma once

#include <sys/types.h>

#include <map>
#include <string>
#include <vector>

namespace kestrum::test {

struct Ran {
  int exit = -1;  // -signal when it was killed
  std::string out;
  std::string err;  // on a terminal everything is in `out`
};

class Program {
 public:
  explicit Program(std::string binary) : binary_(std::move(binary)) {}
  std::map<std::string, std::string> environment;  // besides PATH
  unsigned user = 0;                               // another one than root: run as that user and group
  Ran run(const std::vector<std::string>& words, const std::string& input = {}) const;
  // On a pseudo-terminal of 100 columns; `typed` is sent once the output holds `prompt`.
  Ran run_on_terminal(const std::vector<std::string>& words, const std::string& prompt = {},
                      const std::string& typed = {}) const;
  // A conversation on a pseudo-terminal of 30 lines of 100 columns: each answer is sent once the output since
  // the one before holds its prompt. After the last one the output is read to its end. An exchange that does
  // not come within ten seconds ends it, with exit -1000.
  struct Exchange {
    std::string prompt;
    std::string answer;  // sent as it is: with its newline
  };
  Ran converse(const std::vector<std::string>& words, const std::vector<Exchange>& exchanges) const;
  // Started and left running, its output thrown away.
  pid_t start(const std::vector<std::string>& words) const;
  // Waits; exit code or -signal.
  static int wait(pid_t pid);

  // In a child: becomes the program, its three streams being what they are.
  [[noreturn]] void become(const std::vector<std::string>& words) const;

 private:
  std::string binary_;
};

}  // namespace kestrum::test
