// Looks after the watching of the jobs that run on change: when a change is worth a run, and what the run is
// told.
#pragma once

#include "engine/due_desk.hpp"
#include "engine/watch_note.hpp"

namespace kestrum {

class WatchDesk {
 public:
  // Of each change of how a job is watched. `works`: it is.
  using Tell = std::function<void(const std::string& job, bool works, const std::string& words)>;
  // The context must outlive it. Throws Error of kind failed.
  WatchDesk(const RunContext& context, Tell tell);

  // Readable when look() should be asked; reading it is ours.
  int handle() const { return news_.get(); }
  // The jobs as they are now: watching begins, goes on or ends.
  void jobs(const std::map<std::string, DeskJob>& jobs);
  // Something was mounted or unmounted.
  void mounts_changed();

  // A moment for each job of which so much has happened that a run is due now, as lines in the desk's book.
  // `going`: jobs of which a run goes on. Returns when to look again if nothing happens before.
  std::optional<Instant> look(DueDesk& desk, const std::set<std::string>& going);
  // That run begins: it finds a note of what happened since the ones before it.
  void begins(const DueStart& start);
  // A run of the job has ended.
  void ended(const std::string& job);

 private:
  struct Watched {
    std::string mark;                      // selection_mark()
    std::vector<FolderIdentity> excluded;  // of that selection
    std::int64_t settle = 0, least = 0;    // seconds
    std::string trouble;                   // why there is no watch
    std::unique_ptr<ChangeWatch> watch;
    std::string told;                           // of its standing
    ChangeWatch::Moment seen_first, seen_last;  // of its activity, and when that was by the agent's clock
    Instant first, last;
    std::set<std::int64_t> moments;    // of lines for changes
    std::optional<Instant> last_line;  // the newest of these
    std::optional<WatchNote> handed;   // to a run that goes on
    unsigned in_vain = 0;              // lines in a row that nothing came of
  };
  void begin(const std::string& name, const Job& job);
  void tell_standing(const std::string& name, Watched& job);
  std::optional<Instant> due(Watched& job, std::optional<Instant> last_run) const;
  Instant of(ChangeWatch::Moment moment) const;

  const RunContext& context_;
  Tell tell_;
  FileHandle news_;
  std::map<std::string, Watched> watched_;
};

}  // namespace kestrum
