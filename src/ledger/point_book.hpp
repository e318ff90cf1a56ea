// Which points a job of this home has on which drive, as they were seen there last, and which of them were
// let go since: so that one that went by no rule and no person is missed.
#pragma once

#include <string>
#include <vector>

#include "base/set_facts.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

struct KnownPoint {
  Id set{};
  Sequence sequence = 0;
  Kind kind = Kind::full;
  Instant started;
  std::uint64_t files = 0;  // regular files
  std::uint64_t bytes = 0;  // of them
};

// Each throws Error where the ledger cannot be read or written.
class PointBook {
 public:
  // Must outlive this.
  explicit PointBook(Ledger& ledger) : database_(ledger.database()) {}
  // Those that lie there; also one that was let go, and is there all the same.
  void add(const Id& job, const Id& drive, const std::vector<KnownPoint>& points);
  // It goes by a rule or by a person, or a person says that it may be gone: nobody misses it from now on.
  void let_go(const Id& set, Instant when);
  // That lie there as far as this home knows, in order of sequence.
  std::vector<KnownPoint> known(const Id& job, const Id& drive);

 private:
  Database& database_;
};

}  // namespace kestrum
