// Which job's sets are to be checked now, or of which a restore is to be rehearsed, by the times in [check].
// Unlike runs, checks that were missed are not counted one by one: one makes up for all of them.
#pragma once

#include "engine/due_desk.hpp"
#include "ledger/check_book.hpp"

namespace kestrum {

// How a job's checks stand.
struct CheckLook {
  bool by_times = false;         // it has times for them
  std::optional<JobCheck> last;  // that ended
  bool going = false;
  std::optional<DueWait> wait;  // one is due; what would begin at once has the reason none
  std::optional<Instant> next;  // that is not due yet
};

class CheckDesk {
 public:
  CheckDesk(const RunContext& context, CheckKind kind) : context_(context), kind_(kind) {}
  CheckKind kind() const { return kind_; }

  // The jobs as the desk has read them last.
  void read_jobs(DueDesk& desk, bool only_look = false);
  // Jobs to be checked now, at most so many. `held`: places that are written to. `going`: jobs of which a run
  // goes on.
  std::vector<std::string> decide(DueDesk& desk, const std::set<std::string>& held,
                                  const std::set<std::string>& going, std::size_t most);
  // Its process was started, or has ended with that code, or 128 and the signal.
  void began(const std::string& job) { going_[job] = context_.clock.now(); }
  void ended(const std::string& job, int exit_code);
  // StartBackoff::drives_changed.
  void drives_changed() { backoff_.drives_changed(context_.clock.now()); }
  // When something is to be done next, after decide().
  std::optional<Instant> next_moment() const;
  // After read_jobs(). Nothing is written. What the ledger does not tell is not known.
  CheckLook look(DueDesk& desk, const std::string& job);

 private:
  struct Due {
    Instant first, last;  // of the moments that no check was made for
  };
  std::optional<Due> due(const std::string& job, const std::vector<JobCheck>& newest_first) const;
  bool goes(const std::string& job, const std::vector<JobCheck>& newest_first) const;
  // How it stands when it is due: nothing is to start, it waits, or it may start.
  std::optional<DueWait> waits(const DueDesk& desk, const DeskJob& job, const Due& due);

  const RunContext& context_;
  CheckKind kind_;
  std::map<std::string, std::vector<CountedTime>> times_;  // by job
  std::map<std::string, Instant> going_;                   // started here, since
  std::map<std::string, Instant> made_;     // the last that ended here; also where no ledger is kept
  std::map<std::string, Instant> in_time_;  // the last moment that was seen when it came
  std::map<std::string, Instant> look_again_;
  StartBackoff backoff_;
};

}  // namespace kestrum
