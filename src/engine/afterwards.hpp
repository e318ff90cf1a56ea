// What becomes of the machine after a run: [around] afterwards. Said a minute before, and whoever is at the
// machine can hold it off.
#pragma once

#include "engine/backup.hpp"

namespace kestrum {

inline constexpr int countdown_seconds = 60;

class CountdownListener {
 public:
  virtual ~CountdownListener() = default;
  virtual void begins() {}                              // what else is to be done before
  virtual void left(Afterwards what, int seconds) = 0;  // now and then
  virtual void stays(const std::string& because) = 0;   // it comes to nothing
};

// After a row of runs, of all of its jobs: the strongest wish counts. Nothing where one of them failed,
// unless its job says so; after a stop; while another run goes on or is due within minutes. Waits for the
// countdown. Throws Stopped.
void finish_row(const std::vector<RunOutcome>& outcomes, const RunContext& context,
                CountdownListener& listener);

// Holds off every countdown on this machine, whoever began it; how many there were.
std::size_t hold_off_countdowns();

}  // namespace kestrum
