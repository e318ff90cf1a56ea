// A Python program of tests/support that goes on beside a test, and ends with it.
#pragma once

#include <sys/types.h>

#include <string>
#include <vector>

namespace kestrum::test {

class Companion {
 public:
  // `script`: its name there. It ends when its standard input does.
  Companion(const std::string& script, const std::vector<std::string>& words);
  ~Companion();
  Companion(const Companion&) = delete;
  Companion& operator=(const Companion&) = delete;

  // The next line of its standard output; empty when it has ended.
  std::string line();
  void tell(const std::string& line);

 private:
  pid_t pid_ = 0;
  int to_ = -1, from_ = -1;
};

}  // namespace kestrum::test
