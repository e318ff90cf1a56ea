#include "support/companion.hpp"

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <stdexcept>

namespace kestrum::test {

Companion::Companion(const std::string& script, const std::vector<std::string>& words) {
  std::array<int, 2> in{}, out{};
  if (pipe2(in.data(), O_CLOEXEC) != 0 || pipe2(out.data(), O_CLOEXEC) != 0) throw std::runtime_error("pipe");
  std::vector<std::string> all{"python3", std::string(KESTRUM_SOURCE) + "/tests/support/" + script};
  all.insert(all.end(), words.begin(), words.end());
  std::vector<char*> pointers;
  for (std::string& word : all) pointers.push_back(word.data());
  pointers.push_back(nullptr);
  pid_ = fork();
  if (pid_ == 0) {
    dup2(in[0], STDIN_FILENO);
    dup2(out[1], STDOUT_FILENO);
    execv("/usr/bin/python3", pointers.data());
    _exit(127);
  }
  close(in[0]);
  close(out[1]);
  to_ = in[1];
  from_ = out[0];
}

Companion::~Companion() {
  close(to_);
  close(from_);
  waitpid(pid_, nullptr, 0);
}

std::string Companion::line() {
  std::string said;
  char letter = 0;
  while (read(from_, &letter, 1) == 1 && letter != '\n') said += letter;
  return said;
}

void Companion::tell(const std::string& line) {
  const std::string said = line + "\n";
  if (write(to_, said.data(), said.size()) < 0) throw std::runtime_error("it does not listen any more");
}

}  // namespace kestrum::test
