#include "support/terminal.hpp"

#include <poll.h>
#include <pty.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>

#include "base/text.hpp"

namespace kestrum::test {
namespace {

// ECMA-48: ESC [ ... final byte; ESC and one or two more.
std::string without_control(const std::string& text) {
  std::string out;
  for (std::size_t at = 0; at < text.size(); ++at) {
    if (text[at] != '\033') {
      out += text[at];
      continue;
    }
    out += ' ';
    if (++at == text.size()) break;
    if (text[at] == '(' || text[at] == ')') ++at;
    if (text[at] != '[') continue;
    while (++at < text.size() && (text[at] < '@' || text[at] > '~')) {
    }
  }
  return out;
}

}  // namespace

Terminal::Terminal(const Program& program, const std::vector<std::string>& words, unsigned short rows,
                   unsigned short columns) {
  winsize size{rows, columns, 0, 0};
  pid_ = forkpty(&terminal_, nullptr, nullptr, &size);
  if (pid_ != 0) return;
  Program child = program;
  child.environment.try_emplace("TERM", "xterm");
  child.become(words);
}

Terminal::~Terminal() {
  if (pid_ > 0) {
    kill(pid_, SIGKILL);
    waitpid(pid_, nullptr, 0);
  }
  close(terminal_);
}

// Until nothing came for a while.
std::string Terminal::read_quiet(int first_ms) {
  std::string out;
  constexpr int quiet_ms = 60;
  for (int wait = first_ms; open_; wait = quiet_ms) {
    pollfd ready{terminal_, POLLIN, 0};
    if (poll(&ready, 1, wait) <= 0) break;
    char buffer[8192];
    const ssize_t got = read(terminal_, buffer, sizeof buffer);
    open_ = got > 0;
    if (got > 0) out.append(buffer, static_cast<std::size_t>(got));
  }
  out_ += out;
  return out;
}

void Terminal::press(const std::string& keys) {
  read_quiet(60);
  if (write(terminal_, keys.data(), keys.size()) < 0) open_ = false;
}

void Terminal::resize(unsigned short rows, unsigned short columns) {
  winsize size{rows, columns, 0, 0};
  ioctl(terminal_, TIOCSWINSZ, &size);
  read_quiet(300);
}

std::string Terminal::page(const std::string& until) {
  const std::vector<std::string> wanted = split(until, '|');
  std::string shown;
  for (int tries = 0; tries < 40 && open_; ++tries) {
    read_quiet(60);
    if (write(terminal_, "\014", 1) < 0) break;
    shown = without_control(read_quiet(250));
    const bool there = std::any_of(wanted.begin(), wanted.end(), [&](const std::string& one) {
      return shown.find(one) != std::string::npos;
    });
    if (there && !shown.empty()) return shown;
  }
  constexpr std::size_t most = 1000;
  const std::string last = out_.substr(out_.size() - std::min(out_.size(), most));
  return open_ ? shown : "it has ended, and said: " + without_control(last);
}

Ran Terminal::end() {
  Ran ran;
  for (int tries = 0; tries < 20 && open_; ++tries) read_quiet(1000);
  if (open_) kill(pid_, SIGKILL);
  ran.exit = Program::wait(pid_);
  pid_ = -1;
  ran.out = out_;
  return ran;
}

}  // namespace kestrum::test
