// What was restored on this machine, when, and to where. Never needed to restore.
#pragma once

#include <string>
#include <vector>

#include "base/results.hpp"
#include "base/set_facts.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

struct RestoreEntry {
  std::string job;
  std::string machine;  // whose sets they are
  std::string drive;    // its name
  Sequence point = 0;
  Instant point_started;
  Instant started;
  std::int64_t seconds = 0;  // that it took
  RunResult result = RunResult::done;
  std::string where;  // a folder, "/" for in place, a file; "-" for standard output
  std::uint64_t files = 0, bytes = 0;
  std::uint64_t left_alone = 0;  // what is there stays, or is identical
  std::uint64_t problems = 0;
};

class RestoreBook {
 public:
  // Must outlive this.
  explicit RestoreBook(Ledger& ledger) : database_(ledger.database()) {}
  // Throws Error where the ledger cannot be written.
  void add(const RestoreEntry& entry);
  // Newest first; `job` empty for all.
  std::vector<RestoreEntry> entries(const std::string& job, int most);

 private:
  Database& database_;
};

}  // namespace kestrum
