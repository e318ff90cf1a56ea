// Making a set fit on its drive: before it is written, and when the drive fills while it is.
#pragma once

#include "engine/upkeep.hpp"
#include "plan/space_plan.hpp"
#include "source/walker.hpp"
#include "store/limited_store.hpp"

namespace kestrum {

// References must outlive it.
class FitDrive {
 public:
  FitDrive(WriteSession& session, History& history, std::function<void(const UpkeepResult&)> made_room);

  Upkeep& upkeep() { return upkeep_; }
  // The session's, which ends where the job's limits do.
  Store& store() { return store_; }

  // True when something was removed or folded to make room: then everything is to be decided anew. Throws
  // Error of kind full, with the numbers, when the set will not fit whatever goes.
  bool before(Kind kind, const std::vector<ChainSet>& sets, const Selection& selection);
  // The drive is full, what was written is cleared: makes room, or throws the error with the numbers. Another
  // disk that is full (the machine's own, say) is no reason to touch the drive: then the error is thrown as
  // it is.
  void during(const Error& error);

  // What the run will go through; zeros where nobody wants to know.
  const PhaseTotals& expected() const { return expected_; }

 private:
  void scan(const Selection& selection, class SizeSampler* sampler);
  std::uint64_t first_full(const Selection& selection, std::int64_t room);
  UpkeepResult make_room(std::uint64_t bytes);
  std::string limit_text() const;
  [[noreturn]] void refuse(std::uint64_t needed, const std::string& at_least);

  WriteSession& session_;
  const RunContext& context_;
  Upkeep upkeep_;
  LimitedStore store_;
  std::function<void(const UpkeepResult&)> made_room_;  // told of what went
  PhaseTotals expected_;
  std::uint64_t freed_ = 0;
  std::uint64_t needed_ = 0;  // known by trying
  bool looked_ = false;
};

}  // namespace kestrum
