// Carrying out what the keep rules say on one drive: removing and folding sets, in an order that is safe to
// be killed in.
#pragma once

#include "archive/fold.hpp"
#include "engine/session.hpp"
#include "plan/keep_plan.hpp"

namespace kestrum {

// The question that a plan answers, as the drive is now. Sets are taken at their seals' word.
KeepQuestion keep_question(const LookSession& session, History& history, const RunContext& context,
                           std::uint64_t make_room = 0);

// How large volumes and frames become on a drive of so many bytes: of a job that folds, small enough that one
// after the other can be written again where little room is left.
SetWriterOptions sizes_on(const Job& job, std::uint64_t total);

// Leaves out of the question the sets that the keys at hand prove not to be the job's own; chains that they
// do not open are closed in it. Opens every seal, so the key is asked for.
void leave_out_unproved(KeepQuestion& question, ChainReader& chain, Observer& observer);

// What folding a range would take, as the first of its batches.
FoldPlan look_at_fold(const LookSession& session, const RunContext& context, Sequence first, Sequence last,
                      const FoldRoom& room = {});

struct UpkeepResult {
  std::vector<KeepPlan> rounds;   // each was carried out before the next was made; the last may be empty
  std::uint64_t removed = 0;      // sets
  std::uint64_t folded = 0;       // sets that went into others
  std::uint64_t freed_bytes = 0;  // stored bytes of the job before, less those after
  std::uint64_t job_bytes = 0;    // afterwards
  std::size_t points_left = 0;
  std::string late;      // what was removed did not come free: in one sentence; empty: it did
  std::string unfolded;  // why folding was given up; empty: it was not
  bool damaged = false;  // because of damage, not for lack of room
  bool nothing() const { return removed == 0 && folded == 0; }
};

// References must outlive it.
class Upkeep {
 public:
  Upkeep(WriteSession& session, History& history);

  // See KeepQuestion.
  void spare_promises(bool spare) { spare_promises_ = spare; }

  const std::string& root() const { return session_.root(); }
  // Only sets that are proved to be the job's own count.
  KeepQuestion question(std::uint64_t make_room = 0);

  // Plans and carries out until there is nothing more to do. Throws Error: damage (a fold that does not read
  // back as it was written; the sets are then as they were), failed, full; Stopped.
  // `by_hand`: see KeepQuestion.
  UpkeepResult prune(std::uint64_t make_room = 0, bool by_hand = false);

  // Carries out what points that a person has given up come to, and nothing else. What cannot be done now is
  // left to later runs, see `unfolded`.
  UpkeepResult let_go_given_up();

  // One set from `first` to `last`, in as many batches as the room asks for; `told` is given each plan before
  // it is carried out. Returns how many points went. Throws Error of kind full when there is no room: the
  // sets are then as they were, or as the batches before left them.
  std::uint64_t fold(Sequence first, Sequence last, const std::function<void(const FoldPlan&)>& told = {});

  // Limits of share are overrun, by whatever others have put on the drive, and no point is given up for that:
  // in one sentence; empty otherwise.
  std::string over_share(const KeepPlan& plan);
  // Bytes that a run which has freed so many may write until a limit or the end of the drive is reached;
  // negative when overrun.
  std::int64_t room(std::uint64_t freed = 0);

 private:
  KeepQuestion ask(std::uint64_t make_room) const;
  KeepPlan plan(std::uint64_t make_room, KeepQuestion& asked);
  // The same plan once it is known how much its folds really free, where it depends on that.
  KeepPlan measured(KeepPlan plan, KeepQuestion& asked);
  std::uint64_t frees_by_folding(const KeepPlan& plan) const;
  void carry_out(const KeepPlan& plan, UpkeepResult& result);
  ChainReader open_chain() { return ChainReader(session_.store(), session_.sets(), session_.keys()); }
  void remove(Sequence sequence);
  bool remove_and_wait(Sequence sequence, UpkeepResult& result);
  FoldRoom fold_room(std::uint64_t wanted) const;
  FoldPlan plan_batch(ChainReader& chain, Sequence first, Sequence last, ReachableChunks& reachable);
  // False when the room of what was removed does not come.
  bool came_free(std::uint64_t free_before, std::uint64_t bytes);
  // Reads the sets of a range that could not be folded, so that it is known what of them is damaged.
  void learn_damage(Sequence first, Sequence last);
  FoldPlan fold_batch(Sequence first, Sequence last, const std::function<void(const FoldPlan&)>& told);
  void carry_out_fold(ChainReader& chain, const FoldPlan& plan, const ReachableChunks& reachable);
  FoldedSet write_folded(ChainReader& chain, const FoldPlan& plan, const ReachableChunks& reachable,
                         const SecretKey& master);
  void check_folded(ChainReader& chain, const FoldPlan& plan, const ReachableChunks& reachable,
                    const FoundSet& folded, const SecretKey& master);
  void count_on(const FoundSet& folded, bool proved);
  bool was_proved(const ChainReader& chain, const FoldPlan& plan);

  WriteSession& session_;
  History& history_;
  const RunContext& context_;
  bool may_fold_ = true;
  bool by_hand_ = false, spare_promises_ = false;
  bool late_ = false;                  // what was removed did not come free
  std::uint64_t wanted_of_folds_ = 0;  // bytes that those of the plan should free together
  unsigned fold_yield_ = 1000;         // see KeepQuestion
};

// "removed points 1 to 4, folded 5 to 7 into 8; freed 1.2 GiB"
std::string upkeep_text(const UpkeepResult& result);

}  // namespace kestrum
