// How a run of the agent goes by what watching has told of the job's sources.
#pragma once

#include <optional>
#include <string>

#include "engine/run_context.hpp"
#include "engine/watch_note.hpp"

namespace kestrum {

// Of one set that is compared with an earlier one.
struct WatchedRun {
  ChangedFolders changed;   // since the base was made
  bool everything = false;  // is looked at all the same, and compared with what was told
  Instant told;             // by the clock that files are dated by: what happened later is not in it
};

class WatchGuide {
 public:
  // Of the run that `context` is for: knows nothing unless the agent has left a note for it, and of this
  // selection.
  WatchGuide(const RunContext& context, const std::string& job, const Selection& selection);

  // For a set that builds on that one; nothing: everything is looked at, and nothing compared. The observer
  // is told which.
  std::optional<WatchedRun> onto(const DriveState& drive, const Id& base);
  // What was told does not fit what is there.
  void doubt(const std::string& why);
  // That set was made of the sources as they were after the note. `base`: what the next one may build on
  // besides it. `again`: paths of what had problems.
  void remember(DriveState& drive, const Id& set, const std::optional<Id>& base,
                const std::vector<TreePath>& again) const;

 private:
  // Of more than that everything is looked at again.
  static constexpr std::size_t most_again = 1000;
  Observer& observer_;
  std::optional<WatchNote> note_;
  bool doubted_ = false;
};

// Where those problems were met, each once.
std::vector<TreePath> places_of(const std::vector<Problem>& problems);

}  // namespace kestrum
