// The local history: runs, their problems, what checks found. Never needed to restore.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <vector>

#include "base/observer.hpp"
#include "base/set_facts.hpp"
#include "ledger/sqlite_handle.hpp"

namespace kestrum {

struct RunEntry {
  std::int64_t id = 0;
  std::string job;
  std::int64_t number = 0;  // of this job, from 1
  Instant started;
  std::optional<Instant> ended;  // none: still going, or the machine went down
  std::string result;            // "done", "done with problems", "failed", "stopped"
  int exit_code = 0;
  std::string message;  // of a failure
  std::string destination;
  std::optional<Sequence> sequence;
  std::string kind;
  std::string reason;  // why that kind
  SetTotals totals;
  std::int64_t problems = 0;
  std::string log_file;
  std::string checked;                   // "read back, good"
  std::vector<std::string> upkeep = {};  // what went by the keep rules, and promises that a limit broke
};

// What is known of a set from checks: docs/GLOSSARY.md, "health".
struct CheckEntry {
  Instant when;
  std::string depth;
  bool good = false;
  LostPlaces lost;
  // Files of this point that cannot be restored as they were, in it or in what it needs; none: not looked
  // into.
  std::optional<std::uint64_t> affected;
};

// One process; others may use the same file at the same time.
class Ledger {
 public:
  static constexpr int version = 2;
  explicit Ledger(const std::string& path);
  // The same, but one that is damaged is moved aside (".damaged") and a new one begun: history is not worth a
  // missed run. `note` is told.
  static std::unique_ptr<Ledger> open_or_renew(const std::string& path,
                                               const std::function<void(const std::string&)>& note);

  // Gives the entry its id and number.
  void begin_run(RunEntry& run);
  void finish_run(const RunEntry& run, const std::vector<Problem>& problems);
  // Newest first; `job` empty for all.
  std::vector<RunEntry> runs(const std::string& job, int most);
  std::optional<RunEntry> run(const std::string& job, std::int64_t number);
  std::vector<Problem> problems(std::int64_t run_id);

  void add_check(const Id& set, const CheckEntry& check);
  std::optional<CheckEntry> last_check(const Id& set);
  // The last one that looked into what damage means for the point.
  std::optional<CheckEntry> last_deep_check(const Id& set);

 private:
  void migrate();
  std::optional<CheckEntry> find_check(const Id& set, const char* condition);
  Database database_;
};

}  // namespace kestrum
