// What wakes the agent: the wall clock, job files, steering, mounts, ends of processes, signals. Nothing is
// asked again and again.
#pragma once

#include <map>

#include "base/file_handle.hpp"
#include "engine/home.hpp"
#include "engine/wall_timer.hpp"

namespace kestrum {

class AgentEvents {
 public:
  // What has happened; several at once are told together.
  struct Happened {
    bool time = false;              // the moment waited for
    bool clock = false;             // the clock was set, or the machine woke
    bool jobs = false;              // a job file changed
    bool steering = false;          // somebody paused, or let go on
    bool sources = false;           // what is in them changed, or how they are watched
    bool mounts = false;            // or a drive was plugged in
    bool stop = false;              // a signal: SIGTERM, SIGINT or SIGHUP
    std::vector<pid_t> ended = {};  // processes that were watched
  };

  // From here on those signals come to this and not to handlers, until it is destroyed. Throws Error of kind
  // failed when the kernel refuses a watch.
  // `beat`: also woken so often, of real time; zero: not.
  AgentEvents(const Home& home, const Clock& clock, std::chrono::microseconds beat);
  ~AgentEvents();
  AgentEvents(const AgentEvents&) = delete;
  AgentEvents& operator=(const AgentEvents&) = delete;

  // Until something happens. `until`: nothing: as long as it takes.
  Happened wait(std::optional<Instant> until);
  // Told as `sources` when that is readable; whoever looks reads it.
  void watch_sources(int handle);
  // Its end is told once. False: there is no such process any more.
  bool watch_process(pid_t pid);
  // So often something woke it.
  std::uint64_t wake_ups() const { return wake_ups_; }

 private:
  void watch_folders();
  void add(int file, std::uint32_t events);
  void read_changes(Happened& happened);
  void read_signals(Happened& happened);
  void read_plugged(Happened& happened);
  void look_again_in(int seconds);

  const Home& home_;
  const Clock& clock_;
  FileHandle poll_, changes_, mounts_, plugged_, signals_, beat_, again_;
  WallTimer timer_;
  int sources_ = -1;
  int jobs_watch_ = -1, steering_watch_ = -1, clock_watch_ = -1;
  std::map<int, std::pair<pid_t, FileHandle>> processes_;  // by their handle
  int looks_left_ = 0;  // at drives that may not have been ready when they came
  std::uint64_t wake_ups_ = 0;
};

}  // namespace kestrum
