#include "base/shell_command.hpp"

#include <fcntl.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <thread>
#include <vector>

#include "base/file_handle.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr std::size_t most_output = 4096;

// Ended and looked at with this object, whatever happens.
class Child {
 public:
  Child(const std::string& command, const std::map<std::string, std::string>& environment, int output) {
    std::vector<std::string> words{"/bin/sh", "-c", command}, variables;
    for (char** one = environ; *one != nullptr; ++one) variables.emplace_back(*one);
    for (const auto& [name, value] : environment) variables.push_back(name + "=" + value);
    auto pointers = [](std::vector<std::string>& texts) {
      std::vector<char*> out;
      for (std::string& text : texts) out.push_back(text.data());
      out.push_back(nullptr);
      return out;
    };
    posix_spawn_file_actions_t files;
    posix_spawn_file_actions_init(&files);
    posix_spawn_file_actions_addopen(&files, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
    posix_spawn_file_actions_adddup2(&files, output, STDOUT_FILENO);
    posix_spawn_file_actions_adddup2(&files, output, STDERR_FILENO);
    posix_spawnattr_t attributes;
    posix_spawnattr_init(&attributes);
    sigset_t none, usual;
    sigemptyset(&none);
    sigemptyset(&usual);
    sigaddset(&usual, SIGPIPE);
    posix_spawnattr_setsigmask(&attributes, &none);
    posix_spawnattr_setsigdefault(&attributes, &usual);
    // A group of its own: what it starts ends with it.
    posix_spawnattr_setpgroup(&attributes, 0);
    posix_spawnattr_setflags(&attributes,
                             POSIX_SPAWN_SETPGROUP | POSIX_SPAWN_SETSIGMASK | POSIX_SPAWN_SETSIGDEF);
    const int code = posix_spawn(&pid_, words[0].c_str(), &files, &attributes, pointers(words).data(),
                                 pointers(variables).data());
    posix_spawn_file_actions_destroy(&files);
    posix_spawnattr_destroy(&attributes);
    if (code != 0) throw system_error("start", "the command " + command, code);
  }
  ~Child() {
    if (pid_ > 0) end();
  }
  Child(const Child&) = delete;
  Child& operator=(const Child&) = delete;

  bool has_ended() {
    if (pid_ > 0 && waitpid(pid_, &status_, WNOHANG) == pid_) pid_ = 0;
    return pid_ == 0;
  }
  // It may put things in order for a while.
  void end() {
    constexpr int steps = 50;
    kill(-pid_, SIGTERM);
    const pid_t group = pid_;
    for (int i = 0; i < steps && !has_ended(); ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
    kill(-group, SIGKILL);
    if (pid_ > 0) waitpid(pid_, &status_, 0);
    pid_ = 0;
  }
  int exit_code() const {
    constexpr int by_signal = 128;
    return WIFEXITED(status_) ? WEXITSTATUS(status_) : by_signal + WTERMSIG(status_);
  }

 private:
  pid_t pid_ = 0;
  int status_ = 0;
};

void read_output(int from, std::string& output) {
  char buffer[4096];
  ssize_t got = 0;
  while ((got = read(from, buffer, sizeof buffer)) > 0) {
    output.append(buffer, static_cast<std::size_t>(got));
    if (output.size() > 2 * most_output) output.erase(0, output.size() - most_output);
  }
}

}  // namespace

std::string CommandResult::reason(std::chrono::seconds limit) const {
  std::string text = timed_out ? "it took longer than " + duration_text(limit)
                               : "it ended with exit code " + std::to_string(exit_code);
  std::vector<std::string> said;
  for (const std::string& line : split(output, '\n')) {
    if (!line.empty()) said.push_back(printable(line));
  }
  constexpr std::size_t lines = 3;
  if (said.size() > lines) said.erase(said.begin(), said.end() - lines);
  return said.empty() ? text : text + " and said: " + join(said, " / ");
}

CommandResult run_shell(const std::string& command, const std::map<std::string, std::string>& environment,
                        std::chrono::seconds limit, RunControl& control) {
  int ends[2];
  if (pipe2(ends, O_CLOEXEC) != 0) throw system_error("start", "the command " + command, errno);
  const FileHandle ours(ends[0]);
  FileHandle theirs(ends[1]);
  fcntl(ours.get(), F_SETFL, O_NONBLOCK);
  Child child(command, environment, theirs.get());
  theirs = FileHandle();
  const auto end = std::chrono::steady_clock::now() + limit;
  CommandResult result;
  // Its end counts, not that of its output: something that it leaves running may hold that open.
  while (!child.has_ended()) {
    control.checkpoint();
    if (std::chrono::steady_clock::now() > end) {
      result.timed_out = true;
      child.end();
      break;
    }
    constexpr int slice_ms = 50;
    pollfd place{ours.get(), POLLIN, 0};
    poll(&place, 1, slice_ms);
    if ((place.revents & (POLLHUP | POLLERR)) != 0 && (place.revents & POLLIN) == 0)
      std::this_thread::sleep_for(std::chrono::milliseconds(slice_ms / 5));
    read_output(ours.get(), result.output);
  }
  read_output(ours.get(), result.output);
  result.exit_code = child.exit_code();
  if (result.output.size() > most_output) result.output.erase(0, result.output.size() - most_output);
  return result;
}

}  // namespace kestrum
