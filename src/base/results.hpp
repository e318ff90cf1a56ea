// How things turned out, as values. Their words are here once; nothing is decided by a word.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/clock.hpp"

namespace kestrum {

// Of a run: docs/GLOSSARY.md.
enum class RunResult { running, done, done_with_problems, failed, stopped, missed, skipped, suspect };
std::string_view result_text(RunResult result);  // "done with problems"
std::optional<RunResult> parse_result(std::string_view text);

// Of a point: docs/GLOSSARY.md.
enum class Health { unproved, proved, suspect, damaged, incomplete };
std::string_view health_text(Health health);
inline bool is_good(Health health) {
  return health == Health::unproved || health == Health::proved;
}

// What reading back after a run found.
enum class ReadBack { none, good, damaged, stopped };
std::string_view read_back_text(ReadBack state);  // "read back, good"; "not read back"
std::optional<ReadBack> parse_read_back(std::string_view text);

// How thoroughly sets are checked: their seals and marks; a part of their content; all of it; all that one
// point needs, and the files that it was made of besides.
enum class Depth { quick, sample, all, source };
std::string_view depth_text(Depth depth);
std::optional<Depth> parse_depth(std::string_view text);

// What became of a moment at which a job should have run.
enum class DueFate {
  waiting,  // nothing yet: it waits for something
  ran,      // a run began for it, whose result is what became of it
  missed,   // nobody was there to start it, and it is not made up for
  skipped,  // it was given up for another reason
};
std::string_view fate_text(DueFate fate);
std::optional<DueFate> parse_fate(std::string_view text);

// Why it waits, or why no run began for it.
enum class DueReason {
  none,
  not_watching,  // the agent was not there: the machine was off or asleep, or it did not run
  settling,      // the machine has only just been switched on
  window,        // outside of the hours and days in which runs may start
  paused,        // by a person
  drive,         // the destination is not there
  busy,          // another run goes on
  held_back,     // on battery, or under load
  cut_off,       // its run ended without a word
  not_started,   // its run could not be started
  withdrawn,     // the job, or that time of it, is gone or disabled
};
std::string_view due_reason_name(DueReason reason);
std::optional<DueReason> parse_due_reason(std::string_view text);
// The run that comes of it makes up for a moment that has passed.
inline bool makes_late(DueReason reason) {
  return reason == DueReason::not_watching || reason == DueReason::drive || reason == DueReason::paused ||
         reason == DueReason::cut_off;
}

// A rule of [keep] that a run did not keep, to make room.
struct BrokenRule {
  std::string rule;                    // as the job file says it: "age = 30 days"
  std::uint64_t points = 0;            // that it wanted and that went
  std::optional<Instant> oldest_left;  // point of the drive
};

}  // namespace kestrum
