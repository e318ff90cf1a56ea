// The local history: runs, their problems, what checks found. Never needed to restore.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <vector>

#include "base/observer.hpp"
#include "base/results.hpp"
#include "base/set_facts.hpp"
#include "ledger/sqlite_handle.hpp"

namespace kestrum {

struct RunEntry {
  std::int64_t id = 0;
  std::string job;
  std::int64_t number = 0;  // of this job, from 1
  Instant started;
  std::optional<Instant> ended;  // none: still going, or the machine went down
  RunResult result = RunResult::running;
  int exit_code = 0;
  std::string message;  // of a failure
  std::string destination;
  std::optional<Sequence> sequence;
  std::optional<Kind> kind;
  std::string reason;  // why that kind
  SetTotals totals;
  std::int64_t problems = 0;
  std::string log_file;
  ReadBack checked = ReadBack::none;
  std::vector<std::string> upkeep = {};  // what went by the keep rules
  std::optional<Id> set;                 // of the point
  std::vector<BrokenRule> broken = {};   // each once
  std::string process = {};              // that makes it: ProcessIdentity

  // Its process went without saying how it ended.
  bool cut_off() const { return !ended && result != RunResult::running; }
};

// What is known of a set from checks: docs/GLOSSARY.md, "health".
struct CheckEntry {
  Instant when;
  Depth depth = Depth::quick;
  bool good = false;
  LostPlaces lost;
  // Files of this point that cannot be restored as they were, in it or in what it needs; none: not looked
  // into.
  std::optional<std::uint64_t> affected;
};

// What is known of one set: its last check, and the last one that looked into what damage means for the
// point.
struct SetChecks {
  std::optional<CheckEntry> last, deep;
};

// The start was taken over by another process, or given up.
struct NotAskedFor {};

// One process; others may use the same file at the same time.
class Ledger {
 public:
  static constexpr int version = 10;
  // For reading: a file that may not be written serves as it is.
  enum class Access { writing, reading };
  explicit Ledger(const std::string& path, Access access = Access::writing);
  // The same, but one that is damaged is moved aside (".damaged") and a new one begun: history is not worth a
  // missed run. `note` is told.
  static std::unique_ptr<Ledger> open_or_renew(const std::string& path,
                                               const std::function<void(const std::string&)>& note);

  // Gives the entry its id and number. `start`: of due moments that wait for it (DueBook), which are its own
  // from then on; 0: none. Throws NotAskedFor, and begins nothing, when nothing waits for that start any
  // more.
  void begin_run(RunEntry& run, std::int64_t start = 0);
  void finish_run(const RunEntry& run, const std::vector<Problem>& problems);
  // One that came up after its end: a run that was done is done with problems now.
  void add_problem(std::int64_t run_id, const Problem& problem);
  // Newest first; `job` empty for all.
  std::vector<RunEntry> runs(const std::string& job, int most);
  std::optional<RunEntry> run(const std::string& job, std::int64_t number);
  std::optional<RunEntry> run_by_id(std::int64_t id);
  // That have not ended, and were not recorded as cut off.
  std::vector<RunEntry> unended_runs();
  // Its process is gone: failed, with that message, and no end.
  void record_cut_off(std::int64_t id, const std::string& message);
  std::vector<Problem> problems(std::int64_t run_id);

  // Its runs go on under the new name. Those that an earlier job of that name had keep theirs before them.
  void rename_job(const std::string& from, const std::string& to);

  // The newest run of the job that made a point on that destination, as the job names it.
  std::optional<RunEntry> newest_point(const std::string& job, const std::string& destination);
  // The same on any of its destinations, without what a clock that was ahead has dated later than `now`.
  std::optional<RunEntry> newest_point(const std::string& job, Instant now);

  // Whether a run has that set for its point, or it was seen among a job's own.
  bool knows_set(const Id& set);

  // For what else is kept in the same file.
  Database& database() { return database_; }

  void add_check(const Id& set, const CheckEntry& check);
  // One for each set, in the same order.
  std::vector<SetChecks> checks(const std::vector<Id>& sets);

 private:
  void migrate(Access access);
  void insert_problem(std::int64_t run_id, const Problem& problem);
  std::optional<CheckEntry> find_check(Statement& ask, const Id& set);
  Database database_;
  std::unique_ptr<Statement> ask_last_, ask_deep_;  // used again and again
};

}  // namespace kestrum
