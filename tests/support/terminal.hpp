// The built program on a pseudo-terminal that it has to itself: keys go in, pages are looked at.
#pragma once

#include "support/program.hpp"

namespace kestrum::test {

class Terminal {
 public:
  Terminal(const Program& program, const std::vector<std::string>& words, unsigned short rows = 24,
           unsigned short columns = 80);
  ~Terminal();
  Terminal(const Terminal&) = delete;
  Terminal& operator=(const Terminal&) = delete;

  void press(const std::string& keys);
  void resize(unsigned short rows, unsigned short columns);
  // Presses Ctrl-L and gives back all that is on the page then, a blank for each control sequence. Waits for
  // `until` to be there, at most ten seconds.
  std::string page(const std::string& until = {});
  // Reads to the end, at most twenty seconds.
  Ran end();
  pid_t pid() const { return pid_; }

 private:
  std::string read_quiet(int first_ms);
  pid_t pid_ = -1;
  int terminal_ = -1;
  bool open_ = true;
  std::string out_;
};

inline constexpr const char *key_up = "\033OA", *key_down = "\033OB", *key_right = "\033OC",
                            *key_left = "\033OD", *key_end = "\033OF", *key_escape = "\033",
                            *key_enter = "\r";

}  // namespace kestrum::test
