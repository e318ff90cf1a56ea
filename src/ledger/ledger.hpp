// The local history: runs, their problems, what checks found. Never needed to restore.
#pragma once

#include <map>
#include <set>
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
  std::string message;           // of a failure
  std::string destination;
  std::optional<Sequence> sequence;
  std::string kind;
  std::string reason;            // why that kind
  SetTotals totals;
  std::int64_t problems = 0;
  std::string log_file;
  std::string checked;           // "read back: good"
};

// What is known of a set from checks: docs/GLOSSARY.md, "health".
struct CheckEntry {
  Instant when;
  std::string depth;
  bool good = false;
  std::set<std::uint32_t> lost_slots;
};

// One process; others may use the same file at the same time.
class Ledger {
 public:
  static constexpr int version = 1;
  explicit Ledger(const std::string& path);

  // Gives the entry its id and number.
  void begin_run(RunEntry& run);
  void finish_run(const RunEntry& run, const std::vector<Problem>& problems);
  // Newest first; `job` empty for all.
  std::vector<RunEntry> runs(const std::string& job, int most);
  std::optional<RunEntry> run(const std::string& job, std::int64_t number);
  std::vector<Problem> problems(std::int64_t run_id);

  void add_check(const Id& set, const CheckEntry& check);
  std::optional<CheckEntry> last_check(const Id& set);

 private:
  void migrate();
  Database database_;
};

}  // namespace kestrum
