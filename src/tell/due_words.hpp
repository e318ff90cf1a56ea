// What was due and what waits, in words.
#pragma once

#include "engine/due_desk.hpp"

namespace kestrum {

// "for the drive label:tern-1, since Thu 2027-03-04 12:30": behind "waits".
std::string wait_text(const DueWait& wait);

// What became of a due moment, and how that came: "made up for", "by run 12"; "missed", "nobody was there to
// start it". `run`: of the line, where it has one.
struct DueWords {
  std::string became, because;  // the second may be empty
};
DueWords due_words(const DueLine& line, const std::optional<RunEntry>& run);
// Both in one.
std::string due_text(const DueLine& line, const std::optional<RunEntry>& run);

}  // namespace kestrum
