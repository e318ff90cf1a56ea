// Writing one set from its folder to its seal, in steps.
#pragma once

#include "archive/leftover.hpp"
#include "engine/chain_state.hpp"
#include "engine/guard.hpp"
#include "engine/run_facts.hpp"
#include "engine/session.hpp"
#include "engine/set_run.hpp"
#include "engine/unfinished_folder.hpp"
#include "plan/chain_plan.hpp"

namespace kestrum {

// What an earlier run has left of the same set, its key proved to be the job's.
struct LeftToGoOn {
  Leftover leftover;
  SecretKey master;
  SecretKey naming;
};

// Everything that is settled before the first byte is written.
struct SetPlan {
  KindDecision decision;
  NewNeeds needs;
  Sequence sequence = 1;
  Id set{};
  Id chain{};
  SecretKey master;
  std::vector<KeyEntry> keys;
  SecretKey naming;
  std::optional<Digest> previous;
  std::optional<Sequence> earlier;  // the point that what cannot be read is carried on from
  std::optional<LeftToGoOn> goes_on;
  std::optional<GuardSetup> guard;  // nothing: there is nothing to compare with, or nobody wants it
  Instant started;
};

struct StoredSet {
  Seal seal;
  std::string folder;                  // in the store, its final name
  std::uint64_t saved_anew = 0;        // files; see SetRunResult
  std::vector<TreePath> again;         // where the run met problems
  std::vector<EvidenceLine> evidence;  // where it stands out
  bool sure = true;                    // false: its seal is there, and a power cut might still take it
};

// Destroyed before it was sealed, it clears what it wrote, as far as that can be done, unless a later run can
// go on with it: then it stays. References must outlive it. Throws BaseUnreadable when another base must be
// chosen, WatchDoubt when everything must be looked at, Stopped, Error otherwise.
class SetStore {
 public:
  // `store`: the session's, or one that passes on to it.
  // `watched`: what the run goes by, of a set that builds on another; nothing: everything is looked at.
  SetStore(const SetPlan& plan, const Selection& selection, WriteSession& session, Store& store,
           ChainReader& chain, std::optional<WatchedRun> watched, const PhaseTotals& expected,
           std::vector<Problem>& problems);
  ~SetStore();
  SetStore(const SetStore&) = delete;
  SetStore& operator=(const SetStore&) = delete;

  // The steps, in this order.
  void begin();      // the folder, open.json, room for the seals
  void save();       // walks, reads, writes volumes and index; all of it is on the drive afterwards
  StoredSet seal();  // asks the guard, then the set exists
  // Nobody wants to go on with it: not sealed, it is cleared.
  void let_go();

 private:
  SetWriterOptions writer_options();
  void open_base(ChainChunks& known);
  void go_by_what_watching_told(SetRun& run, const ChainChunks& known);
  [[noreturn]] void refuse_nothing_read();
  void take_totals(const SetRunResult& result, const SetWriter& writer);
  // What the plan goes on with, as far as it authenticates.
  TakenLeftover take_over(SetWriter& writer);
  SetRunResult walk(SetRun& run, RunJournal& journal);
  void tell_left();
  void remember(const JournalProgress& progress);
  RunRecord record() const;
  void tell_untold(const SetRunResult& result);
  void weigh(GuardTally* tally, const SetWriter& writer);
  void write_records(SetWriter& writer, const SetRunResult& result);
  SealCore core() const;

  const SetPlan& plan_;
  const Selection& selection_;
  WriteSession& session_;
  const RunContext& context_;
  Store& store_;
  ChainReader& chain_;
  const std::optional<WatchedRun> watched_;
  std::vector<Problem>& problems_;
  std::vector<TreePath> again_;
  PhaseTotals expected_;
  // Not at once: flushing a file waits for all that is being written.
  std::chrono::steady_clock::time_point remembered_ = std::chrono::steady_clock::now();
  std::int32_t offset_ = 0;
  std::unique_ptr<UnfinishedFolder> folder_;
  SetIdentity identity_;
  std::optional<Leftover> left_;  // of the plan, where it lies now
  SaltedBox naming_box_;
  FilesystemTable filesystems_;
  std::optional<PointReader> base_;
  std::optional<Comparison> comparison_;
  SetTotals totals_;
  bool carries_ = false;
  std::uint64_t saved_anew_ = 0;
  std::vector<EvidenceLine> evidence_;
  std::vector<std::string> examples_;
  SetWriter::Finished finished_;
  Root root_;
};

}  // namespace kestrum
