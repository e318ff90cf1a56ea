#include "cli/environment.hpp"

#include <fmt/format.h>
#include <pwd.h>
#include <sys/ioctl.h>
#include <termios.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <iostream>
#include <thread>

#include "base/error.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "engine/machine_identity.hpp"

namespace kestrum {
namespace {

std::string variable(const char* name) {
  const char* value = getenv(name);
  return value == nullptr ? std::string() : std::string(value);
}

std::string user_home() {
  std::string home = variable("HOME");
  if (!home.empty()) return home;
  const passwd* entry = getpwuid(geteuid());
  return entry != nullptr ? entry->pw_dir : "/";
}

// KESTRUM_MACHINE_ID: 32 letters as in machine-id(5), in the place of the system's own.
Id machine_id() {
  const std::string given = variable("KESTRUM_MACHINE_ID");
  return given.empty() ? machine_identity() : machine_identity_of(given);
}

std::unique_ptr<Home> make_home() {
  const Id machine = machine_id();
  std::string one = variable("KESTRUM_HOME");
  if (!one.empty()) return std::make_unique<Home>(one, one + "/state", machine);
  if (geteuid() == 0) return std::make_unique<Home>("/etc/kestrum", "/var/lib/kestrum", machine);
  std::string config = variable("XDG_CONFIG_HOME");
  std::string state = variable("XDG_STATE_HOME");
  if (!config.starts_with('/')) config = user_home() + "/.config";
  if (!state.starts_with('/')) state = user_home() + "/.local/state";
  return std::make_unique<Home>(config + "/kestrum", state + "/kestrum", machine);
}

Instant moment_of(const std::string& text, const char* name) {
  std::optional<Instant> when = parse_utc(text);
  if (!when)
    throw Error(ErrorKind::usage, std::string(name) + " is not a moment: '" + printable(text) + "'",
                "write it in UTC, like 2027-03-01T20:30:00Z");
  return *when;
}

std::unique_ptr<Clock> make_clock() {
  std::string now = variable("KESTRUM_NOW");
  std::string running = variable("KESTRUM_CLOCK");
  if (!now.empty()) return std::make_unique<SimulatedClock>(moment_of(now, "KESTRUM_NOW"), 0.0);
  if (running.empty()) return std::make_unique<SystemClock>();
  if (running.starts_with("file:")) return std::make_unique<ClockFile>(running.substr(5));
  std::optional<SimulatedClock> clock = parse_simulated_clock(running);
  if (!clock)
    throw Error(ErrorKind::usage, "KESTRUM_CLOCK is not a start and a rate: '" + printable(running) + "'",
                "write it like 2027-03-01T20:30:00Z,60");
  // Processes that this one starts share its clock.
  setenv("KESTRUM_CLOCK", clock->text().c_str(), 1);
  return std::make_unique<SimulatedClock>(*clock);
}

std::string machine_name() {
  std::string name = variable("KESTRUM_MACHINE");
  if (!name.empty()) return name;
  char host[256] = {};
  return gethostname(host, sizeof host - 1) == 0 && host[0] != '\0' ? std::string(host)
                                                                    : std::string("machine");
}

}  // namespace

Environment::Environment()
    : clock_(make_clock()),
      home_(make_home()),
      machine_(machine_name()),
      session_bus_(variable("DBUS_SESSION_BUS_ADDRESS")) {
  out_terminal_ = isatty(STDOUT_FILENO) == 1;
  err_terminal_ = isatty(STDERR_FILENO) == 1 && variable("TERM") != "dumb";
  colour_ = variable("NO_COLOR").empty() && variable("TERM") != "dumb";
  if (clock_->simulated()) err("kestrum: the clock is simulated, set to {}\n", utc_text(clock_->now()));
}

bool Environment::in_and_out_are_terminals() const {
  return isatty(STDIN_FILENO) == 1 && out_terminal_;
}

std::size_t Environment::width() const {
  winsize size{};
  if (ioctl(STDERR_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 20) return size.ws_col;
  return 80;
}

namespace {

// What is typed is not shown, as long as this lives. Ctrl-\ stops like Ctrl-C meanwhile: it would end the
// program and leave the terminal silent.
class SilentTerminal {
 public:
  SilentTerminal() {
    tcgetattr(STDIN_FILENO, &before_);
    termios silent = before_;
    silent.c_lflag &= ~static_cast<tcflag_t>(ECHO);
    struct sigaction stop {};
    sigaction(SIGINT, nullptr, &stop);
    sigaction(SIGQUIT, &stop, &quit_);
    tcsetattr(STDIN_FILENO, TCSADRAIN, &silent);
  }
  ~SilentTerminal() {
    tcsetattr(STDIN_FILENO, TCSADRAIN, &before_);
    sigaction(SIGQUIT, &quit_, nullptr);
    err("\n");
  }
  SilentTerminal(const SilentTerminal&) = delete;
  SilentTerminal& operator=(const SilentTerminal&) = delete;

 private:
  termios before_{};
  struct sigaction quit_ {};
};

}  // namespace

AskPassphrase Environment::ask() const {
  return [](const std::string& what) -> std::optional<SecretText> {
    if (isatty(STDIN_FILENO) != 1) return std::nullopt;
    err("{}: ", what);
    StopsItself stops_itself;
    SilentTerminal silent;
    // Read byte by byte into memory that is wiped: a stream would keep a copy.
    constexpr std::size_t most = 4096;
    std::string line;
    line.reserve(most);
    char letter = 0;
    ssize_t got = 0;
    while (true) {
      got = read(STDIN_FILENO, &letter, 1);
      if (got < 0 && errno == EINTR) {
        if (!process_control().stop_requested()) continue;
        SecretText::take(line);
        process_control().checkpoint();
      }
      if (got != 1 || letter == '\n' || line.size() == most) break;
      line += letter;
    }
    SecretText typed = SecretText::take(line);
    return got == 1 || !typed.empty() ? std::optional(typed) : std::nullopt;
  };
}

People Environment::people() const {
  return find_people(variable("KESTRUM_ACCOUNTS"), user_home());
}

unsigned Environment::workers() const {
  return std::max(1u, std::min(8u, std::thread::hardware_concurrency()));
}

}  // namespace kestrum
