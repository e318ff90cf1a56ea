// Questions on a terminal: a default in brackets, ? for help, < for the way back, an end of input or Ctrl-C
// to give up.
#pragma once

#include <functional>
#include <string>
#include <vector>

namespace kestrum {

// Thrown by a question that the person goes back from.
struct WentBack {};

class Asker {
 public:
  // `bold`: headings stand out.
  explicit Asker(bool bold) : bold_(bold) {}
  // Both throw WentBack, or Error of kind stopped when the person gives up. `help` is shown on ?; the same
  // question comes again.
  // The answer without blanks around it; `fallback` for an empty one.
  std::string text(const std::string& question, const std::string& fallback, const std::string& help);
  // Which of the choices, from 0; each is shown with its number. `usual`: taken for an empty answer.
  std::size_t choose(const std::string& question, const std::vector<std::string>& choices, std::size_t usual,
                     const std::string& help);
  bool yes(const std::string& question, bool usual, const std::string& help);
  // Without echo.
  std::string secret(const std::string& question);
  // Lines asked for so far.
  std::size_t asked() const { return asked_; }
  // A heading of a new subject.
  void heading(const std::string& text);

 private:
  bool bold_;
  std::size_t asked_ = 0;
  std::string line(const std::string& prompt, const std::string& help);
};

}  // namespace kestrum
