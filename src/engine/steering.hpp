// Pausing, going on and stopping from another process: a file for each job in the home's steering folder.
#pragma once

#include <memory>
#include <vector>

#include "base/observer.hpp"
#include "base/run_control.hpp"
#include "engine/home.hpp"
#include "plan/agenda.hpp"

namespace kestrum {

struct Steering {
  std::optional<Pause> pause;     // of the job's times and its runs
  Instant paused_at;              // of the pause
  std::vector<std::string> stop;  // runs, by the identities of their processes
  bool discard = false;           // what those have written of their point is not wanted

  bool is_paused(Instant now) const { return pause && (!pause->until || *pause->until > now); }
};
// What does not read steers nothing.
Steering load_steering(const Home& home, const std::string& job);
// Throws Error of kind failed. Nothing to steer: the file goes.
void save_steering(const Home& home, const std::string& job, const Steering& steering);

// As long as it lives, a run of this process follows its job's steering, and looks at its lock and its drive
// again after the machine has slept. Where the kernel or the home does not let it, the run is not steered,
// and the observer is told.
class SteeredRun {
 public:
  // `unattended`: a pause that holds already counts; a person who runs a paused job means it.
  SteeredRun(const Home& home, const std::string& job, const Clock& clock, RunControl& control,
             Observer& observer, bool unattended);
  ~SteeredRun();
  SteeredRun(const SteeredRun&) = delete;
  SteeredRun& operator=(const SteeredRun&) = delete;

 private:
  struct Follower;
  std::unique_ptr<Follower> follower_;
};

}  // namespace kestrum
