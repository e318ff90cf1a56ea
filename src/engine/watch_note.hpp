// What the agent tells a run of what its watching has found, through a file of the home.
#pragma once

#include <map>

#include "engine/home.hpp"
#include "source/change_watch.hpp"

namespace kestrum {

struct WatchNote {
  std::int64_t start = 0;  // the run that it is for (RunContext::start)
  std::string selection;   // that is watched: selection_mark()
  Instant told;            // by the clock that files are dated by
  // Everything is to be looked at all the same; what was told is compared with it.
  bool everything = false;
  ChangeWatch::HandOver changes;
  // Everything is looked at later than that: what happened before is saved then, and is no news any more.
  std::optional<ChangeWatch::Moment> looked_from = {};
};

// Throws Error of kind failed.
void write_watch_note(const Home& home, const std::string& job, const WatchNote& note);
// Nothing when there is none for that start, or it does not read.
std::optional<WatchNote> read_watch_note(const Home& home, const std::string& job, std::int64_t start);
// For the run that it is for: something has changed the sources since. Where there is none, or it cannot be
// written anew, it is taken away, and everything is looked at as well.
void look_at_everything_from_now(const Home& home, const std::string& job, std::int64_t start);
void remove_watch_note(const Home& home, const std::string& job);

// The same for the same selection, whatever the machine calls its devices today.
std::string selection_mark(const Selection& selection);

}  // namespace kestrum
