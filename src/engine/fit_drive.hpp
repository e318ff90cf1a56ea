// Making a set fit on its drive: before it is written, and when the drive fills while it is.
#pragma once

#include "engine/upkeep.hpp"
#include "plan/space_plan.hpp"
#include "source/walker.hpp"
#include "store/limited_store.hpp"

namespace kestrum {

// References must outlive it; the job's lock is held.
class FitDrive {
 public:
  FitDrive(const Job& job, Destination& destination, JobState& state, KeyRing& keys, Ledger* ledger,
           const RunContext& context, const JobLock& lock,
           std::function<void(const UpkeepResult&)> made_room);

  Upkeep& upkeep() { return upkeep_; }
  // The destination's, which ends where the job's limits do.
  Store& store() { return store_; }

  // True when something was removed or folded to make room: then everything is to be decided anew. Throws
  // Error of kind full, with the numbers, when the set will not fit whatever goes.
  bool before(Kind kind, const std::vector<ChainSet>& sets, const Selection& selection);
  // The drive is full, what was written is cleared: makes room, or throws the error with the numbers. Another
  // disk that is full (the machine's own, say) is no reason to touch the drive: then the error is thrown as
  // it is.
  void during(const Error& error);

 private:
  std::uint64_t first_full(const Selection& selection, std::int64_t room);
  UpkeepResult make_room(std::uint64_t bytes);
  [[noreturn]] void refuse(std::uint64_t needed, const std::string& at_least);

  const Job& job_;
  Destination& destination_;
  const RunContext& context_;
  Upkeep upkeep_;
  LimitedStore store_;
  std::function<void(const UpkeepResult&)> made_room_;  // told of what went
  std::uint64_t freed_ = 0;
  std::uint64_t needed_ = 0;  // known by trying
  bool sampled_ = false;
};

}  // namespace kestrum
