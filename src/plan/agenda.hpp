// What is due, and what to do about it now. Pure: the time, what is known and what is there are passed in.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/results.hpp"
#include "calendar/run_window.hpp"
#include "calendar/span.hpp"

namespace kestrum {

// A job's time, and since when it counts: it is never made up for backwards.
struct CountedTime {
  Phrase phrase;
  Instant since;
};

// A moment at which a job should run. Several phrases that mean the same moment are one; of their kinds the
// larger counts.
struct DueMoment {
  Instant when;
  std::optional<Kind> kind;
  std::string phrase;
};

struct DueMoments {
  std::vector<DueMoment> moments;  // in order
  // Of very many only the last are told one by one; those before them by their number and ends.
  std::uint64_t before = 0;
  Instant before_first, before_last;
};

// What came after `known` and until `now`, at most `most` of it one by one. "On change" without anybody who
// watches is an interval: what it says, else a day.
DueMoments due_between(const std::vector<CountedTime>& times, std::optional<Instant> known, Instant now,
                       std::size_t most);
// The first moment later than `now`.
std::optional<DueMoment> next_due(const std::vector<CountedTime>& times, Instant now);

// A moment that has come and for which no run has begun. Which kind of set its run makes is decided by the
// run (decide_by_time): a full one that was missed is made by the first run after it.
struct WaitingMoment {
  Instant when;
  bool late = false;  // a run for it makes up for it
};

struct Pause {
  std::optional<Instant> until;  // none: until somebody says `continue`
};

struct StartQuestion {
  bool catch_up = true;
  RunWindow window = {};
  Instant now = {};
  std::vector<WaitingMoment> waiting = {};  // oldest first
  std::optional<Pause> pause = {};
  bool running = false;     // a run of the job goes on
  Instant settled = {};     // what is made up for does not start before
  Instant not_before = {};  // after a start that came to nothing
  bool held_back = false;   // the machine is to be left alone now
};

struct StartDecision {
  enum class What {
    nothing,  // is due
    start,    // if the drive is there and nobody writes to it
    wait,
    give_up,  // for that reason, as the job says: what was not watched only of the late ones. Then ask again
  };
  What what = What::nothing;
  DueReason reason = DueReason::none;  // of waiting and giving up
  std::optional<Instant> look_again;   // of waiting: nothing changes before, unless something happens
};
StartDecision decide_start(const StartQuestion& question);
// Whether the machine is still to be left alone is looked at again so often: neither load nor power tells.
inline constexpr std::int64_t hold_back_seconds = 300;

// When somebody should be warned that there will be no good point for longer than `limit`: a quarter of it
// before, at most a day.
Instant warn_from(Instant newest_good, const Span& limit);

}  // namespace kestrum
