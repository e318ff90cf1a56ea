// Rehearsed restores of a job's files: when, and what came of them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

struct DrillEntry {
  std::string job;
  std::string drive;
  Instant when;
  Sequence point = 0;
  Instant point_started;
  std::uint64_t files = 0, all_files = 0;  // of the sample; of the point
  std::uint64_t bytes = 0, all_bytes = 0;
  std::uint64_t bad = 0;                              // that did not come back, or not as they were saved
  std::uint64_t source_same = 0, source_differs = 0;  // held against today's files
  std::uint64_t opened = 0, unopened = 0;
  std::uint64_t trials = 0, failed_trials = 0;
  std::uint64_t seconds = 0, all_seconds = 0;  // that it took; that everything would take
  bool good = false;
};

class DrillBook {
 public:
  // Errors are those of the ledger, which must outlive it.
  explicit DrillBook(Ledger& ledger) : database_(ledger.database()) {}
  void add(const DrillEntry& drill);
  // Newest first.
  std::vector<DrillEntry> drills(const std::string& job, int most);

 private:
  Database& database_;
};

}  // namespace kestrum
