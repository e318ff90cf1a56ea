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
  // `spare_promises`: see KeepQuestion.
  FitDrive(WriteSession& session, History& history, bool spare_promises,
           std::function<void(const UpkeepResult&)> made_room);

  Upkeep& upkeep() { return upkeep_; }
  // The session's, which ends where the job's limits do.
  Store& store() { return store_; }

  enum class Fit {
    yes,
    decide_anew,  // something was removed or folded to make room
    no_full,      // a full set does not fit whatever goes, and nothing was given up for it
  };
  // Throws Error of kind full, with the numbers, when the set will not fit whatever goes. `instead`: in place
  // of a full set the chain can go on; then that is said of a full one instead. `left`: bytes of it that lie
  // there already.
  Fit before(Kind kind, const std::vector<ChainSet>& sets, const Selection& selection, bool instead,
             std::uint64_t left);
  // The drive is full, of what was written `left` bytes stay to be gone on with: makes room, or throws the
  // error with the numbers. Another disk that is full (the machine's own, say) is no reason to touch the
  // drive: then the error is thrown as it is.
  Fit during(const Error& error, Kind kind, const Selection& selection, bool instead, std::uint64_t left);

  // What the run will go through; zeros where nobody wants to know.
  const PhaseTotals& expected() const { return expected_; }

 private:
  void scan(const Selection& selection, class SizeSampler* sampler);
  // What a full set would store, by a sample of the sources as they are; 0 when it fits into `room` as it is.
  std::uint64_t sampled_full(const Selection& selection, std::int64_t room);
  std::uint64_t first_full(const Selection& selection, std::int64_t room);
  UpkeepResult make_room(std::uint64_t bytes);
  Fit no_full(std::uint64_t needed);
  std::string limit_text() const;
  std::string full_text(const KeepQuestion& asked);
  [[noreturn]] void refuse(std::uint64_t needed, const std::string& at_least);

  WriteSession& session_;
  const RunContext& context_;
  Upkeep upkeep_;
  LimitedStore store_;
  std::function<void(const UpkeepResult&)> made_room_;  // told of what went
  PhaseTotals expected_;
  std::uint64_t freed_ = 0;
  std::string late_;          // see UpkeepResult
  std::uint64_t needed_ = 0;  // in all, known by trying
  std::uint64_t left_ = 0;    // of it, what lay there before
  bool looked_ = false;
};

}  // namespace kestrum
