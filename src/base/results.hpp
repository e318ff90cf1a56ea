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

// How thoroughly sets are checked.
enum class Depth { quick, all };
std::string_view depth_text(Depth depth);
std::optional<Depth> parse_depth(std::string_view text);

// A rule of [keep] that a run did not keep, to make room.
struct BrokenRule {
  std::string rule;                    // as the job file says it: "age = 30 days"
  std::uint64_t points = 0;            // that it wanted and that went
  std::optional<Instant> oldest_left;  // point of the drive
};

}  // namespace kestrum
