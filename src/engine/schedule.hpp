// The coming runs of all jobs, as the agent would start them.
#pragma once

#include "engine/due_desk.hpp"

namespace kestrum {

struct ComingRun {
  std::string job;
  Instant due;     // by the job's times
  Instant starts;  // when its window opens, and the runs before it on its drive have ended
  std::string phrase;
  std::optional<Kind> kind;                   // none: the drive is not there to tell
  std::optional<std::chrono::seconds> takes;  // as its last runs of that kind did; none: none is known
  std::string behind;                         // the job whose run it waits for; empty: none
};

struct Schedule {
  std::vector<ComingRun> runs;             // in order of their start
  std::map<std::string, DueWait> waiting;  // jobs of which a run is due already
  std::map<std::string, Pause> paused;
  std::vector<std::string> without;  // jobs that never run by themselves
  bool cut = false;                  // there are more, which are not listed
};

// `names`: none means every job. `days`: 1 to 3660. Writes nothing. Throws Error of kind usage for a name
// that is no job.
Schedule coming_runs(const std::vector<std::string>& names, unsigned days, const RunContext& context);

// How long runs of that kind took lately: the middle one of the last ones.
std::optional<std::chrono::seconds> usual_length(const std::vector<RunEntry>& runs, std::optional<Kind> kind);

}  // namespace kestrum
