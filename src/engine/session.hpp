// A job's sets on one destination, opened: for looking, and for writing. Whatever a command does with them,
// it opens them here, once.
#pragma once

#include "archive/chain_reader.hpp"
#include "archive/leftover.hpp"
#include "calendar/local_time.hpp"
#include "engine/history.hpp"
#include "engine/own_sets.hpp"
#include "engine/run_context.hpp"
#include "engine/write_guard.hpp"

namespace kestrum {

// SUBJECT of a command, and how it is to be opened.
struct SubjectOptions {
  std::string subject;
  std::string machine = {};  // choose among several; empty: any
  std::string job = {};
  std::optional<std::string> passphrase = {};    // source, overrides the job's
  std::optional<RecoveryKey> recovery_key = {};  // then nothing else opens the sets
  AskPassphrase ask = {};
  std::string destination = {};  // of a job with several, as it names it; empty: the first
  OpenStore open_store = open_local_store;
};

// For looking. Needs no home, no key and no job file until something asks for what only they tell.
class LookSession {
 public:
  // A job's name, or a path on a destination: the destination itself, a job's folder, a set's folder, any
  // file in it. Without drive.json the sets are found by their seals. Throws Error: usage (no such job,
  // several to choose from), no_destination (not there, or no destination at all).
  static LookSession open(const Home* home, const SubjectOptions& options);
  // A job with several destinations: one for each that is connected; anything else: the one. `away` is told
  // of those that are not there. Throws as `open` does when none is.
  static std::vector<LookSession> open_each(const Home* home, const SubjectOptions& options,
                                            const std::function<void(const std::string&)>& away);
  // One of a job's destinations as a run would find it: the drive must be the job's own. There need not be a
  // set on it yet. Throws Error: no_destination, wrong_drive.
  LookSession(const Job& job, const std::string& named, const std::optional<JobState>& state,
              const RunContext& context, std::shared_ptr<KeyRing> keys);

  const std::string& root() const { return place_->root; }      // of the store, on this machine
  const std::string& folder() const { return place_->folder; }  // the job's, in the store
  Store& store() const { return *place_->store; }
  const Destination& destination() const { return *place_; }
  std::string drive_name() const { return place_->name(); }
  // Made anew by the first run; then it is not there yet.
  bool has_identity() const { return place_->identity.has_value(); }
  const JobIdentity& identity() const { return *place_->identity; }
  const std::optional<Job>& job() const { return job_; }
  const std::optional<JobState>& state() const { return state_; }
  // nullptr: opened without one.
  const Home* home() const { return home_; }
  // Of that home; looking makes none where there is none.
  History& history() const;
  // What is wrong with the job's folder or the drive's file; empty when nothing.
  const std::vector<std::string>& findings() const { return findings_; }
  // The set that the path named, if it named one.
  const std::optional<Sequence>& named_set() const { return named_set_; }
  KeyRing& keys() const { return *keys_; }
  // Read at the first call. By a job's name, what cannot be the job's own is left out of what counts.
  const SetList& sets() const&;
  SetList sets() && { return own_sets(); }
  // The same once the keys have been tried: what counts afterwards, as far as it opens, was written with its
  // chain's key. By a path, see prove_by_path(). Throws Error of kind key there.
  const SetList& proved_sets();
  // The same where it matters and nobody need be asked for a key: where something is left out, or something
  // was said of a point. False where what was said is not proved.
  bool prove_at_hand();
  // The job's passphrase did not open that chain when it was last tried. What lies there of such chains
  // counts by its seals' word.
  bool opens_otherwise(const Id& chain) const { return state_ && state_->closed_chains.contains(chain); }
  // What a run says of the key at hand: an Error of kind key, or nothing where it opens what it has to.
  std::optional<Error> refused_key();
  // False when a run, a fold or a pruning has changed what lies there since the sets were read; what was
  // found missing or damaged may then be neither.
  bool is_current() const;
  void read_again();
  // The destination shows an older state than this machine remembers, or sets that were not made one after
  // the other: in one sentence; empty when neither is so, or nothing is known.
  std::string older_state() const;
  // Nobody without the passphrase, or without what this machine remembers, can have written that set. A key
  // that is lacking is none.
  bool authenticated(const FoundSet& set) const;
  // By a path: what does not count, once the keys have been tried: a line each.
  std::vector<std::string> unproved_lines() const;
  // By a path: some of the sets there could have been written by anybody. In one sentence; empty otherwise.
  std::string anybody_wrote() const;

 protected:
  LookSession() = default;
  Destination& place() { return *place_; }
  SetList& own_sets();
  std::optional<JobState>& own_state() { return state_; }
  void forget_findings() { findings_.clear(); }
  OwnRules own_rules() const;

 private:
  void find_job(const std::string& named_folder, const SubjectOptions& options);
  void prove_drive();
  const DriveState* remembered_drive() const;
  std::string missing_end() const;
  std::string broken_order() const;
  std::unique_ptr<Destination> place_;
  const Home* home_ = nullptr;
  std::optional<JobState> home_memory_;  // by a path: of the home's job that lies there, if one does
  std::vector<std::string> findings_;
  std::optional<Job> job_;
  std::optional<JobState> state_;
  std::optional<Sequence> named_set_;
  std::shared_ptr<KeyRing> keys_;
  mutable std::optional<SetList> sets_;
  mutable std::optional<History> history_;
  bool proved_ = false;
  bool asks_ = false;  // its key would be asked for on a terminal, and nobody has said so
};

// Where the passphrase of a job does not open what lies on its drives that are connected: what to do, a line
// for each. A passphrase that would have to be asked for is not tried.
std::vector<std::string> refused_passphrases(const Home& home, const Job& job, const OpenStore& open_store);

// Opens the sets of a job; shared by the sessions of one command, so that nobody is asked twice.
std::shared_ptr<KeyRing> job_keys(const Job& job, const AskPassphrase& ask);

// For writing: the job's folder is claimed and locked, what killed runs have left is put in order, and its
// list of sets is kept true by its own seals, removals and folds.
class WriteSession : public LookSession {
 public:
  // Takes over what was found. Throws Error: no_destination (it cannot be written), busy, full.
  WriteSession(LookSession found, const RunContext& context);
  ~WriteSession();
  WriteSession(const WriteSession&) = delete;
  WriteSession& operator=(const WriteSession&) = delete;

  const Job& own_job() const { return *job(); }
  JobState& memory() { return *own_state(); }
  DriveState& drive() { return *drive_; }
  const WriteGuard& guard() const { return *guard_; }
  SetList& list() { return own_sets(); }
  const RunContext& context() const { return context_; }

  // Tries the keys of all sets (see `prove`): what does not open, or was not written with its chain's key, is
  // told and left out. What opens is remembered, and what does not. Throws key when nothing opens, or not the
  // newest, and nobody has said that the passphrase is a new one.
  void prove_sets();
  // A person says that what the drive shows now is what the job goes on from.
  void accept_state();
  // This home could not write down that it has made the points up to this one: the drive says it.
  void leave_unremembered(Sequence point);
  // What a run that was broken off has left, if anything; and why it goes.
  void clear_leftover(const std::string& why);
  // Completes or takes back what killed folds have left. Opens the folded sets, so a key is needed. What
  // cannot be completed is told and left as it is.
  void finish_folds();
  // Removes a set, the guard asked before. Where it is the newest, the one before it counts as that from then
  // on.
  void remove(const FoundSet& set);
  // What a person says of a point, into its seal. The list reads it anew.
  void restate(const FoundSet& set, const Standing& standing);
  // What the guard, or a person, says of the point. The list reads it anew.
  void regard(const FoundSet& set, GuardMark mark);
  // Gives it other ways in. The list reads it anew.
  void rekey(const FoundSet& set, const std::vector<KeyEntry>& keys, const SecretKey& master);
  // Takes up a set that was just sealed in that folder (its name). Throws damage when it does not read.
  const FoundSet& sealed_now(const std::string& path, const Id& set);
  // What this machine remembers of the job, written; the trouble with that is remembered instead of thrown.
  void save_memory();
  // Ends the sets that a folded one covers; it was found good.
  void finish(const FoundSet& folded);
  const std::optional<Error>& memory_trouble() const { return memory_trouble_; }

 private:
  void open();
  void reload_state();
  void begin_memory();
  void refuse_not_own(bool with_points);
  void learn_newest();
  void learn_points();
  void remember_newest_but(const FoundSet& set);
  bool remember_closed();
  void tidy();
  std::optional<Leftover> left_in(const SetFolder& folder) const;
  void finish_last_strokes(const FoundSet& found);
  const RunContext& context_;
  DriveState* drive_ = nullptr;  // in memory()
  std::unique_ptr<JobLock> lock_;
  std::unique_ptr<WriteGuard> guard_;
  std::optional<Error> memory_trouble_;
};

// The point that is wished for: the newest sealed set not later than the moment. Throws usage when there is
// none, saying which there are.
const FoundSet& choose_point(const SetList& sets, const PointWish& wish);
// The wish itself: `text`, or the set that the subject named, or the latest.
PointWish wish_for(const LookSession& session, const std::optional<std::string>& text, Instant now);
// The same over several drives: "tern-1:12" names the drive; a number alone must be on one of them only; else
// the newest point of all of them counts.
struct DrivePoint {
  std::size_t session = 0;
  PointWish wish;
};
DrivePoint choose_drive(std::vector<LookSession>& sessions, const std::optional<std::string>& text,
                        Instant now);
// "12 (full, Mon 2027-03-01 20:30 CET)"
std::string point_text(const SetFacts& facts);

}  // namespace kestrum
