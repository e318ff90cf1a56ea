#include "engine/afterwards.hpp"

#include <poll.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include <algorithm>
#include <cstddef>
#include <thread>

#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/history.hpp"
#include "engine/job_in_force.hpp"
#include "engine/schedule.hpp"
#include "engine/system_bus.hpp"

namespace kestrum {
namespace {

// Sockets of this name belong to no file and ask for no permission: anybody at the machine may write there.
constexpr std::string_view socket_prefix = "kestrum-countdown-";
constexpr std::int64_t soon_seconds = 15 * 60;

struct Address {
  sockaddr_un name{};
  socklen_t size = 0;
  explicit Address(const std::string& text) {
    name.sun_family = AF_UNIX;
    const std::size_t length = std::min(text.size(), sizeof name.sun_path - 1);
    std::copy_n(text.begin(), length, name.sun_path + 1);
    size = static_cast<socklen_t>(offsetof(sockaddr_un, sun_path) + 1 + length);
  }
  const sockaddr* get() const { return reinterpret_cast<const sockaddr*>(&name); }
};

FileHandle countdown_socket() {
  FileHandle handle(socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
  const Address address(std::string(socket_prefix) + std::to_string(getpid()));
  if (!handle || bind(handle.get(), address.get(), address.size) != 0)
    throw system_error("listen for", "whoever wants the machine to stay on", errno);
  return handle;
}

// The strongest wish of the row; nothing where one of its runs speaks against it.
Afterwards wish_of(const std::vector<RunOutcome>& outcomes, const RunContext& context) {
  Afterwards wish = Afterwards::nothing;
  for (const RunOutcome& outcome : outcomes) {
    if (outcome.made_good_elsewhere) continue;
    std::optional<Error> trouble;
    std::optional<JobInForce> job;
    try {
      job = job_in_force(context.home, outcome.entry.job, &trouble);
    } catch (const Error&) {
      return Afterwards::nothing;
    }
    const bool stopped = outcome.entry.exit_code == exit_code_of(ErrorKind::stopped);
    const bool failed = outcome.entry.exit_code > exit_problems;
    if (!job || stopped || (failed && !job->job.afterwards_if_failed)) return Afterwards::nothing;
    wish = std::max(wish, job->job.afterwards);
  }
  return wish;
}

std::string runs_elsewhere(const RunContext& context) {
  History history = History::open(context);
  if (history.ledger() == nullptr) return {};
  for (const RunEntry& run : history.ledger()->unended_runs()) {
    const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
    if (process && process->pid != getpid() && process->is_running())
      return "a run of " + printable(run.job) + " goes on";
  }
  return {};
}

// Why the machine is needed now; empty: it is not.
std::string needed_for(const RunContext& context) {
  if (std::string run = runs_elsewhere(context); !run.empty()) return run;
  try {
    const Schedule schedule = coming_runs({}, 1, context);
    const Instant now = context.clock.now();
    for (const auto& [job, wait] : schedule.waiting) {
      const bool comes = wait.reason != DueReason::drive && wait.reason != DueReason::paused;
      const bool late = wait.look_again && wait.look_again->seconds > now.seconds + soon_seconds;
      if (comes && !late) return printable(job) + " is due";
    }
    for (const ComingRun& run : schedule.runs) {
      if (run.starts.seconds <= now.seconds + soon_seconds)
        return printable(run.job) + " is due at " + local_text(run.starts);
    }
  } catch (const Error& error) {
    return "what is due cannot be told: " + std::string(error.what());
  }
  return {};
}

// True: it ran out.
bool count_down(Afterwards what, const RunContext& context, CountdownListener& listener) {
  const FileHandle socket_of = countdown_socket();
  const double rate = context.clock.simulated() ? std::max(1.0, context.clock.rate()) : 1;
  constexpr int step = 10;
  for (int left = countdown_seconds; left > 0; left -= step) {
    listener.left(what, left);
    const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(step / rate);
    while (std::chrono::steady_clock::now() < end) {
      context.control.checkpoint();
      pollfd wait{socket_of.get(), POLLIN, 0};
      constexpr int slice = 50;  // milliseconds
      if (poll(&wait, 1, slice) <= 0) continue;
      char word = 0;
      if (recv(socket_of.get(), &word, 1, 0) < 0) continue;
      listener.stays("somebody at the machine wants it so");
      return false;
    }
  }
  return true;
}

}  // namespace

void finish_row(const std::vector<RunOutcome>& outcomes, const RunContext& context,
                CountdownListener& listener) {
  const Afterwards what = wish_of(outcomes, context);
  if (what == Afterwards::nothing) return;
  try {
    const auto needed = [&] {
      const std::string because = needed_for(context);
      if (!because.empty()) listener.stays(because);
      return !because.empty();
    };
    if (needed()) return;
    listener.begins();
    // A minute is long enough for somebody to start something.
    if (!count_down(what, context, listener) || needed()) return;
    what == Afterwards::standby ? go_to_standby() : switch_machine_off();
  } catch (const Error& error) {
    listener.stays(error.what());
  }
}

std::size_t hold_off_countdowns() {
  std::size_t count = 0;
  const FileHandle sender(socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0));
  constexpr std::size_t most = 4u << 20;
  const Bytes table = read_small_file("/proc/net/unix", most);
  for (const std::string& line : split(as_text(table), '\n')) {
    const std::size_t at = line.rfind(" @" + std::string(socket_prefix));
    if (at == std::string::npos) continue;
    const Address address(line.substr(at + 2));
    if (sendto(sender.get(), "s", 1, 0, address.get(), address.size) == 1) ++count;
  }
  return count;
}

}  // namespace kestrum
