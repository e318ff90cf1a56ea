// What a run that was broken off has left at a destination, and what becomes of it.
#pragma once

#include "archive/leftover.hpp"
#include "engine/look.hpp"
#include "engine/session.hpp"

namespace kestrum {

// Why no run goes on with it, in plain words; empty: the next may, unless it is too old by then.
std::string no_use(const Leftover& leftover, const LookSession& session);
// Nobody waits for it any more: the same, by time.
std::string too_old(const Leftover& leftover, Instant now);

// The one that the next run may go on with, as it lies there now. Throws Error of the system.
std::optional<Leftover> leftover_of(const LookSession& session);
// The same for who only counts it: nothing where it does not read.
std::optional<Leftover> leftover_that_reads(const LookSession& session);
// The same for those who look, with what this machine remembers of it.
std::optional<LeftPoint> left_point(const LookSession& session);
// Of a drive that is not there.
std::optional<LeftPoint> left_point(const DriveState& drive);

// "point 13 is not finished: 61 % of it (4.2 GiB) lies there, begun on Mon 2027-03-08 20:30"
std::string left_text(const LeftPoint& left);
// "the next run goes on with it; to clear it: kestrum stop wardens --discard"
std::string left_advice(const std::string& job);

// Clears it at each destination of the job that is connected; gives what was cleared.
std::vector<Leftover> discard_leftovers(const std::string& job, const RunContext& context);

}  // namespace kestrum
