// One run of one job to one destination, step by step.
#pragma once

#include "engine/around.hpp"
#include "engine/fit_drive.hpp"
#include "engine/set_store.hpp"
#include "engine/watched_run.hpp"

namespace kestrum {

class JobRun {
 public:
  // `around` must outlive it. `named`: the destination, as the job names it. `trouble`: known already; then
  // the run only fails. `spare_promises`: see KeepQuestion.
  JobRun(const Job& job, std::string named, std::optional<Error> trouble, std::optional<Kind> wanted,
         const RunContext& context, std::shared_ptr<KeyRing> keys, Around& around,
         bool spare_promises = false);
  // What is known before it begins. Told as problems of this run.
  void begin_with(std::vector<Problem> known) { known_ = std::move(known); }
  // Due moments wait for it: Ledger::begin_run.
  void take_over(std::int64_t start) { start_ = start; }
  // Throws NotAskedFor before anything else, when they wait no more.
  RunOutcome run();

 private:
  void begin();
  void steps();
  void end();
  void work(WriteSession& session, const Selection& selection);
  std::optional<JobState> remembered();
  static bool begins_beside(LookSession& found);
  Selection selected(bool silent);
  void refuse_same_disk(const LookSession& found, const Selection& selection);
  // Until a set is sealed: what was decided is decided anew when a base turns out not to read, and after room
  // was made.
  void make_point(WriteSession& session, const Selection& selection, FitDrive& fit);
  void prepare(WriteSession& session, const std::vector<Sequence>& unreadable);
  void look_over(WriteSession& session);
  void accept_or_refuse(WriteSession& session);
  void choose_keys(WriteSession& session, SetPlan& plan, const FoundSet* newest);
  void choose_naming(WriteSession& session, SetPlan& plan, const FoundSet* newest);
  // What lies there of a run that was broken off, when the planned point is the same one; else it is cleared.
  void take_up_leftover(WriteSession& session, SetPlan& plan);
  static std::uint64_t bytes_left(WriteSession& session);
  std::string unlock_left(WriteSession& session, LeftToGoOn& left);
  void begin_chain(WriteSession& session, SetPlan& plan, const FoundSet* newest);
  void confirm_passphrase(const SecretText& phrase);
  void note_recovery_key(const SetPlan& plan);
  [[noreturn]] void refuse_left(Sequence point) const;
  StoredSet write(WriteSession& session, const Selection& selection, FitDrive& fit);
  void remember(WriteSession& session, const FoundSet& set, const StoredSet& stored);
  void finish(WriteSession& session, const StoredSet& stored);
  void leave_note_there(const WriteSession& session);
  void tell_saved_anew(const StoredSet& stored);
  void read_back(WriteSession& session, const FoundSet& set);
  void keep_up(Upkeep& upkeep);
  void miss_points(const WriteSession& session);
  void tell_incomplete(const WriteSession& session);
  void tell_upkeep(const UpkeepResult& result, const std::string& why);
  void tell_broken(const WriteSession& session);
  void tell_circumstances(Upkeep& upkeep, const KeepPlan& plan);
  bool goes_on() const;
  void problem(const std::string& path, const std::string& operation, const std::string& reason);
  void note(const std::string& text) { observer_.note(text); }

  const Job& job_;
  std::string named_;
  std::optional<Error> trouble_;
  std::optional<Kind> wanted_;
  bool spare_promises_;
  const RunContext& context_;
  Observer& observer_;
  std::shared_ptr<KeyRing> keys_;
  Around& around_;
  History history_;
  std::optional<Error> memory_trouble_;  // what this machine remembers of the job does not read
  std::optional<ChainReader> chain_;
  std::vector<ChainSet> surveyed_;
  std::optional<SetPlan> plan_;
  std::optional<WatchGuide> watch_;
  std::int64_t start_ = 0;
  std::vector<Problem> known_;         // before it began
  bool full_fits_ = true;              // else the chain goes on where a full set is due
  std::vector<BrokenPromise> broken_;  // by this run, each rule once
  KeepRules broken_rules_;
  RunOutcome outcome_;
};

}  // namespace kestrum
