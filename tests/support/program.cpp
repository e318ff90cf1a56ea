#include "support/program.hpp"

#include <fcntl.h>
#include <grp.h>
#include <poll.h>
#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <cstdlib>
#include <stdexcept>

namespace kestrum::test {
namespace {

void read_some(int fd, std::string& out, bool& open) {
  char buffer[65536];
  ssize_t n = read(fd, buffer, sizeof buffer);
  if (n <= 0) {
    open = false;
  } else {
    out.append(buffer, static_cast<std::size_t>(n));
  }
}

}  // namespace

void Program::become(const std::vector<std::string>& words) const {
  std::vector<std::string> pairs;
  if (!environment.contains("PATH")) pairs.emplace_back("PATH=/usr/bin:/bin");
  if (!environment.contains("TZ")) pairs.emplace_back("TZ=UTC");
  if (!environment.contains("LC_ALL")) pairs.emplace_back("LC_ALL=C.UTF-8");
  for (const auto& [name, value] : environment) pairs.push_back(name + "=" + value);
  std::vector<char*> env;
  for (std::string& pair : pairs) env.push_back(pair.data());
  env.push_back(nullptr);
  std::vector<std::string> copy{binary_};
  copy.insert(copy.end(), words.begin(), words.end());
  std::vector<char*> argv;
  for (std::string& word : copy) argv.push_back(word.data());
  argv.push_back(nullptr);
  if (user != 0 &&
      (setgroups(0, nullptr) != 0 || setresgid(user, user, user) != 0 || setresuid(user, user, user) != 0))
    _exit(126);
  execve(binary_.c_str(), argv.data(), env.data());
  _exit(127);
}

int Program::wait(pid_t pid) {
  int status = 0;
  waitpid(pid, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
}

Ran Program::run(const std::vector<std::string>& words, const std::string& input) const {
  int in[2], out[2], err[2];
  if (pipe(in) != 0 || pipe(out) != 0 || pipe(err) != 0) throw std::runtime_error("no pipe");
  pid_t pid = fork();
  if (pid == 0) {
    dup2(in[0], 0);
    dup2(out[1], 1);
    dup2(err[1], 2);
    for (int fd : {in[0], in[1], out[0], out[1], err[0], err[1]}) close(fd);
    become(words);
  }
  close(in[0]);
  close(out[1]);
  close(err[1]);
  if (!input.empty() && write(in[1], input.data(), input.size()) < 0) throw std::runtime_error("no input");
  close(in[1]);
  Ran ran;
  bool out_open = true, err_open = true;
  while (out_open || err_open) {
    pollfd fds[2] = {{out_open ? out[0] : -1, POLLIN, 0}, {err_open ? err[0] : -1, POLLIN, 0}};
    poll(fds, 2, -1);
    if (fds[0].revents != 0) read_some(out[0], ran.out, out_open);
    if (fds[1].revents != 0) read_some(err[0], ran.err, err_open);
  }
  close(out[0]);
  close(err[0]);
  ran.exit = wait(pid);
  return ran;
}

Ran Program::run_on_terminal(const std::vector<std::string>& words, const std::string& prompt,
                             const std::string& typed) const {
  int terminal = -1;
  winsize size{30, 100, 0, 0};
  pid_t pid = forkpty(&terminal, nullptr, nullptr, &size);
  if (pid == 0) become(words);
  Ran ran;
  bool open = true;
  bool sent = typed.empty();
  while (open) {
    read_some(terminal, ran.out, open);
    if (!sent && ran.out.find(prompt) != std::string::npos) {
      usleep(100000);  // until it has turned the echo off
      if (write(terminal, typed.data(), typed.size()) < 0) break;
      sent = true;
    }
  }
  ran.exit = wait(pid);
  close(terminal);
  return ran;
}

Ran Program::converse(const std::vector<std::string>& words, const std::vector<Exchange>& exchanges) const {
  int terminal = -1;
  winsize size{30, 100, 0, 0};
  pid_t pid = forkpty(&terminal, nullptr, nullptr, &size);
  if (pid == 0) become(words);
  Ran ran;
  bool open = true, in_time = true;
  std::size_t at = 0, since = 0;
  while (open && in_time) {
    pollfd ready{terminal, POLLIN, 0};
    in_time = poll(&ready, 1, 10000) > 0;
    if (in_time) read_some(terminal, ran.out, open);
    if (at == exchanges.size() || ran.out.find(exchanges[at].prompt, since) == std::string::npos) continue;
    usleep(20000);  // until it has turned the echo off, where it does
    since = ran.out.size();
    const std::string& answer = exchanges[at++].answer;
    if (write(terminal, answer.data(), answer.size()) < 0) break;
  }
  if (!in_time) kill(pid, SIGKILL);
  ran.exit = wait(pid);
  if (!in_time || at < exchanges.size()) ran.exit = -1000;
  close(terminal);
  return ran;
}

pid_t Program::start(const std::vector<std::string>& words) const {
  pid_t pid = fork();
  if (pid == 0) {
    int none = open("/dev/null", O_RDWR);
    dup2(none, 0);
    dup2(none, 1);
    dup2(none, 2);
    become(words);
  }
  return pid;
}

}  // namespace kestrum::test
