// What is told of a job now, and what was told before: decided without looking at anything else.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.hpp"
#include "rules/tell_rules.hpp"

namespace kestrum {

// Something that is wrong now.
struct SeenTrouble {
  std::string mark;   // the same for what is the same trouble
  Instant tell_from;  // sooner it is no news
};

// What was told of one.
struct ToldTrouble {
  std::string mark;
  Instant told;        // the last time
  unsigned times = 1;  // since it came
  bool there = true;   // when it was last looked
  bool operator==(const ToldTrouble&) const = default;
};

struct TellMemory {
  std::optional<Instant> since;  // when the job was looked at first; none: never
  std::int64_t run = 0;          // id of the newest ended run that was told of, or was passed over
  std::vector<ToldTrouble> troubles;
  std::optional<Instant> bad;     // when a trouble was told last that has not been told to be gone
  std::optional<Instant> digest;  // the last one
  bool operator==(const TellMemory&) const = default;
};

struct TellLook {
  Instant now;
  bool on_change = false;  // the job runs so often that a mail a run would be noise
  std::vector<SeenTrouble> troubles;
  std::int64_t newest_run = 0;           // id of the newest run that has ended; 0: none
  std::optional<Instant> good_run = {};  // end of that run where it made a good point
};

struct TellStep {
  std::vector<std::size_t> fresh;  // of the troubles looked at: told for the first time, worst first
  std::vector<std::size_t> again;  // told before, and still there
  bool good_again = false;
  bool runs = false;    // what runs did since the last mail, for itself
  bool digest = false;  // the same, and how it stands, as a digest
  TellMemory after;     // once it is told
  std::optional<Instant> look_again;

  bool any() const { return !fresh.empty() || !again.empty() || good_again || runs || digest; }
};

// A job that waits for its drive, and files that could not be read in one run, are no news before: a day, and
// some time for the run of the next.
inline constexpr std::int64_t patience_seconds = 26 * 3600;

// The same trouble is told when it comes and then after one day, two, four, and each week, each and two
// hours, as long as it is there; one that comes and goes is told once a day. Digests come at that hour of the
// local day, weekly ones on Mondays.
inline constexpr int digest_hour = 7;

TellStep tell_step(const TellRules& rules, const TellMemory& memory, const TellLook& look);

}  // namespace kestrum
