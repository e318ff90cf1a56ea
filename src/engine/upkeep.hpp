// Carrying out what the keep rules say on one drive: removing and folding sets, in an order that is safe to
// be killed in.
#pragma once

#include "archive/fold.hpp"
#include "engine/backup.hpp"
#include "engine/file_saver.hpp"
#include "engine/job_lock.hpp"
#include "plan/keep_plan.hpp"

namespace kestrum {

struct UpkeepResult {
  std::vector<KeepPlan> rounds;   // each was carried out before the next was made; the last may be empty
  std::uint64_t removed = 0;      // sets
  std::uint64_t folded = 0;       // sets that went into others
  std::uint64_t freed_bytes = 0;  // stored bytes of the job before, less those after
  std::uint64_t job_bytes = 0;    // afterwards
  std::size_t points_left = 0;
  std::string unfolded;  // why folding was given up; empty: it was not
  bool damaged = false;  // because of damage, not for lack of room
  bool nothing() const { return removed == 0 && folded == 0; }
};

// One job on one drive whose lock is held. References must outlive it.
class Upkeep {
 public:
  Upkeep(const Job& job, Destination& destination, JobState& state, KeyRing& keys, Ledger* ledger,
         const RunContext& context, const JobLock* lock);

  // Completes or takes back what a killed fold has left. Before anything else.
  void finish_folds();

  // The question that a plan answers, as the drive is now. Chains that the key at hand does not open are left
  // alone and do not count.
  KeepQuestion question(std::uint64_t make_room = 0);

  // Plans and carries out until there is nothing more to do. Throws Error: stopped, damage (a fold that does
  // not read back as it was written; the sets are then as they were), failed, full.
  UpkeepResult prune(std::uint64_t make_room = 0);

  // One set from `first` to `last`, in as many batches as the room asks for; `told` is given each plan before
  // it is carried out. Returns how many points went. Throws Error of kind full when there is no room: the
  // sets are then as they were, or as the batches before left them.
  std::uint64_t fold(Sequence first, Sequence last, const std::function<void(const FoldPlan&)>& told = {});
  // What the first batch of that would take.
  FoldPlan fold_plan(Sequence first, Sequence last);

  // Bytes that may be written until a limit or the end of the drive is reached; negative when overrun.
  std::int64_t room();

 private:
  std::vector<FoundSet> sets() const;
  ChainReader open_chain() { return ChainReader(*destination_.store, sets(), keys_); }
  void remove(Sequence sequence);
  // Reads the sets of a range that could not be folded, so that it is known what of them is damaged.
  void learn_damage(Sequence first, Sequence last);
  FoldPlan fold_batch(Sequence first, Sequence last, const std::function<void(const FoldPlan&)>& told);
  void carry_out_fold(ChainReader& chain, const FoldPlan& plan, const ReachableChunks& reachable);
  void count_on(const FoundSet& folded, bool proved);
  bool was_proved(const ChainReader& chain, const FoldPlan& plan);
  FoldContext fold_context(ChainReader& chain);

  const Job& job_;
  Destination& destination_;
  JobState& state_;
  KeyRing& keys_;
  Ledger* ledger_;
  const RunContext& context_;
  const JobLock* lock_;  // nullptr: only looks
  bool may_fold_ = true;
};

// "removed points 1 to 4, folded 5 to 7 into 8; freed 1.2 GiB"
std::string upkeep_text(const UpkeepResult& result);

}  // namespace kestrum
