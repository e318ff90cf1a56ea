// What is due for the jobs of a home and what to do about it: the lines in the ledger kept true, by the
// decisions of plan/agenda. The agent, `run --due`, status and schedule all stand on it.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <set>

#include "engine/backup.hpp"
#include "engine/job_in_force.hpp"
#include "engine/run_context.hpp"
#include "engine/start_backoff.hpp"
#include "engine/steering.hpp"
#include "ledger/due_book.hpp"

namespace kestrum {

// A moment that is noticed so late was missed: whoever should have started the run was not there.
inline constexpr std::int64_t in_time_seconds = 300;
// What is made up for does not start before the machine has been up for so long.
inline constexpr std::int64_t settle_seconds = 180;

struct DeskJob {
  std::string name;
  std::optional<JobInForce> in_force;  // none: its file does not read, and never has
  std::optional<Error> trouble;        // of its file
  std::vector<CountedTime> times;      // none of a disabled job
};

// A start that is to be made now.
struct DueStart {
  std::string job;
  std::int64_t start = 0;         // the token
  std::vector<Instant> moments;   // that it is for
  std::vector<std::string> into;  // where it will write, as places on this machine
};

// How a job that waits stands.
struct DueWait {
  DueReason reason = DueReason::none;
  Instant since;  // of the oldest moment that waits
  std::optional<Instant> look_again;
  std::string drive;  // that is waited for, as the job names it
};

// What a job's times say now, noticed or not.
struct DueLook {
  // Something is due; what would start at once has the reason none.
  std::optional<DueWait> wait;
  std::optional<Instant>
      missed;  // the last moment that no run was made for, nor will be, and none came after it
  std::optional<Instant> next;  // start of the next run that is not due yet
  bool on_change = false;       // what happens to the sources starts one before that
  std::string unwatched;        // why that cannot be noticed, as the last agent said; empty: it can
  std::optional<Pause> pause;
  std::optional<RunEntry> going;  // a run goes on
};

// A due moment and the run that it has.
struct DueMade {
  DueLine line;
  std::optional<RunEntry> run;
  // That run is listed for itself, and this is the moment that it is of.
  bool is_of_run() const { return run && line.own && line.fate == DueFate::ran; }
};
// But for what waits and what happened before: what the job and a person say about starting it.
StartQuestion start_question(const Job& job, const RunContext& context);

// The times of a job that was just made or changed count from now on; of one that is disabled none does.
// Failing is no trouble: then they count from when they are first noticed.
void count_times(const Home& home, const Job& job, Instant now);

// The times with since when they count, as the book knows them; unknown ones count from `now`. `name`: under
// which they are kept.
std::vector<CountedTime> counted_times(DueBook& book, const std::string& name,
                                       const std::vector<Phrase>& phrases, Instant now, bool only_look);

// Newest first.
std::vector<DueMade> due_made(Ledger& ledger, const std::string& job, std::size_t most, Instant now);

class DueDesk {
 public:
  // A ledger that cannot be written is replaced by one in memory, and the observer is told.
  explicit DueDesk(const RunContext& context);
  // Begins with nothing, and keeps nothing.
  struct InMemory {};
  DueDesk(const RunContext& context, InMemory);
  // Writes nothing, whoever owns the ledger: read_jobs(true) and look_ahead() only.
  struct OnlyLook {};
  DueDesk(const RunContext& context, OnlyLook);

  // False: its ledger is in memory.
  bool is_kept() const { return kept_; }

  // The job files, as they are now; what waits of a job that is gone, disabled or without times waits no
  // longer. `only_look`: nothing is written.
  void read_jobs(bool only_look = false);
  const std::map<std::string, DeskJob>& jobs() const { return jobs_; }

  // Lines for the moments that have come.
  void notice();
  // One for what has happened to the job's sources, of this second, which is given back. Nothing: there is
  // one already.
  std::optional<Instant> add_change(const std::string& job);
  // Runs whose process is gone are recorded as cut off; what they were for waits again, unless `seen_to_end`
  // says that somebody was there to see it.
  void look_after_runs(const std::function<bool(const RunEntry&)>& seen_to_end = {});
  // What is to be started now, at most so many. `held`: places that are written to. `going`: jobs of which a
  // run goes on.
  std::vector<DueStart> decide(const std::set<std::string>& held, const std::set<std::string>& going,
                               std::size_t most);
  // Where a run of the job would write now.
  std::vector<std::string> places_of(const std::string& job) const;
  // The process of a start has ended with that code, or 128 and the signal. What still waits for it waits
  // again, or was not started.
  void start_ended(const DueStart& start, int exit_code);

  // How they wait, after decide().
  const std::map<std::string, DueWait>& waits() const { return waits_; }
  // Of every job that counts, as it would be decided now; nothing is written or started.
  std::map<std::string, DueLook> look_ahead();
  // When something is to be done next, after decide().
  std::optional<Instant> next_moment() const;
  // StartBackoff::drives_changed.
  void drives_changed() { backoff_.drives_changed(context_.clock.now()); }
  // What is made up for starts no earlier. At most settle_seconds from now.
  void settle_until(Instant when) { settled_ = when; }
  // What a clock that was ahead has said to wait for is not waited for.
  Instant settled() const {
    return settled_.seconds <= context_.clock.now().seconds + settle_seconds ? settled_ : Instant{};
  }

  DueBook& book() { return book_; }
  Ledger& ledger() { return *ledger_; }

 private:
  DueLook look_at(const DeskJob& job, std::optional<RunEntry> going);
  std::vector<DueLine> lines_due(const DeskJob& job);
  StartQuestion question_of(const DeskJob& job, bool going) const;
  std::optional<DueStart> decide_job(const DeskJob& job, const std::set<std::string>& held, bool going);
  std::optional<DueStart> start_or_wait(const DeskJob& job, std::vector<DueLine>& waiting,
                                        const std::set<std::string>& held);
  std::vector<DueLine> give_up(std::vector<DueLine> waiting, DueReason reason);
  void wait(const std::string& job, std::vector<DueLine>& waiting, const DueWait& how);
  bool made_up_by_hand(DueLine& line, std::vector<RunEntry> runs);

  const RunContext& context_;
  bool kept_ = true;
  std::unique_ptr<Ledger> ledger_;
  DueBook book_;
  Instant settled_ = {};
  std::map<std::string, DeskJob> jobs_;
  std::map<std::string, DueWait> waits_;
  struct AddedChange {
    Instant when;
    std::int64_t newest_run = 0;  // its identity; runs up to it were before the change, whatever their dates
  };
  std::map<std::string, AddedChange> added_changes_;  // by job, the last
  StartBackoff backoff_;
};

// After a run that due moments waited for: what of its outcomes counts for them. One that was stopped from
// outside, found no drive or was kept out by another run leaves them waiting.
void settle_due(Ledger& ledger, const std::vector<RunOutcome>& outcomes, bool stopped_for_good);

}  // namespace kestrum
