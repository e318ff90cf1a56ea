// What this machine keeps: job files, what it remembers of each job, the ledger, logs. All of it can be lost;
// the destination and a key bring everything back.
#pragma once

#include <map>
#include <set>

#include "archive/crypto.hpp"
#include "base/set_facts.hpp"
#include "base/tree_path.hpp"
#include "job/job_file.hpp"
#include "job/settings.hpp"

namespace kestrum {

// A set of a run that was told what watching had found: what happened later is of a later period.
struct WatchedSet {
  Id set{};
  Id watch{};
  std::uint64_t period = 0;
  std::string selection;        // selection_mark()
  std::vector<TreePath> again;  // had problems: to be looked at again, with all below
};

// A drive that a job has written to.
// How far a run has come with a point that is not finished.
struct LeftProgress {
  Sequence sequence = 0;             // 0: there is none
  std::uint64_t bytes = 0;           // of the sources, gone through
  std::uint64_t expected_bytes = 0;  // 0: not known
};

struct DriveState {
  Id drive{};
  std::string destination;            // as the job names it; empty: it may be at any of them
  Sequence highest = 0;               // sequence ever used there
  std::optional<Digest> newest_core;  // of the newest set
  std::string newest_folder;          // its name; empty: not known
  Instant written;                    // start of that set
  std::vector<WatchedSet> watched;    // that the next set may be compared with
  Sequence accepted = 0;              // up to it, a person has taken the sets as they are
  Id begun{};                         // the set that was begun last there; zero: none
  LeftProgress left;
};

struct JobState {
  Id job{};                         // the job's identity, made with it; that of its folders on drives
  Id machine{};                     // on which it was made, or taken over; zero: not known
  std::optional<SecretKey> naming;  // names chunks, in every chain
  bool naming_known = false;        // it has stood on a drive for everybody to read
  std::vector<DriveState> drives;
  std::map<Id, Digest> chain_keys;  // check value of each chain's master key
  std::set<Id> closed_chains;       // those that the job's passphrase did not open when it was last tried
  // Key entries that a change of the passphrase is about to take away, until it has on every drive.
  std::set<std::array<std::uint8_t, 8>> leaving;

  const DriveState* drive(const Id& id) const;
  // The drive that was last written to as this destination; nullptr when there is none.
  const DriveState* at(const std::string& destination) const;
  // Added when it is not known.
  DriveState& use(const Id& id, const std::string& destination);
};

// Paths only are kept; folders are made when something is written. Throws Error of kind failed for files that
// cannot be read or written.
class Home {
 public:
  // `machine`: machine_identity(); zero: not known.
  Home(std::string config, std::string state, const Id& machine = {})
      : config_(std::move(config)), state_(std::move(state)), machine_(machine) {}

  const Id& machine() const { return machine_; }
  // Of this home on this machine: for whoever finds on a drive what a home could not write down of itself.
  Id mark() const;

  std::string jobs_folder() const { return config_ + "/jobs"; }
  std::string job_path(const std::string& name) const { return jobs_folder() + "/" + name + ".toml"; }
  std::string ledger_file() const { return state_ + "/ledger.db"; }
  std::string state_file(const std::string& job) const { return state_ + "/job-state/" + job + ".json"; }
  std::string ledger_path() const;  // the same; makes the folder
  // `name`: of the run, unique in its job. Makes the folder, and clears what killed runs have left in it.
  std::string log_path(const std::string& job, const std::string& name) const;
  // Of a job file that does not read, the last form that did.
  std::string last_good_file(const std::string& job) const { return state_ + "/last-good/" + job + ".toml"; }
  std::string steering_folder() const { return state_ + "/steering"; }
  std::string steering_file(const std::string& job) const { return steering_folder() + "/" + job + ".json"; }
  // What the agent tells a run of changes.
  std::string watch_file(const std::string& job) const { return state_ + "/watch/" + job + ".json"; }
  std::string settings_file() const { return config_ + "/settings.toml"; }
  // What was told of the job by mail.
  std::string tell_file(const std::string& job) const { return state_ + "/tell/" + job + ".json"; }
  // The same at the desks.
  std::string desk_file(const std::string& job) const { return state_ + "/tell/" + job + ".desk.json"; }
  // Why its report page could not be written the last time; not there when it could.
  std::string page_trouble_file(const std::string& job) const { return state_ + "/tell/" + job + ".page"; }
  // When its ways in were tried.
  std::string way_file(const std::string& job) const { return state_ + "/ways-in/" + job + ".json"; }
  // Mail that is to go out.
  std::string outbox_folder() const { return state_ + "/outbox"; }
  const std::string& state_folder() const { return state_; }
  std::string mount_folder() const { return state_ + "/mounted"; }
  std::string agent_file() const { return state_ + "/agent.lock"; }
  // Makes the folder above the state's file that it is in.
  void make_folder_of(const std::string& state_file) const;
  // Where large runs put what they sort; makes the folder, or gives the system's own where that cannot be.
  std::string scratch_folder() const;

  void make_jobs_folder() const;

  std::vector<std::string> job_names() const;  // sorted
  bool has_job(const std::string& name) const;
  // Throws usage: no such job (the nearest name is offered), or a file that does not read.
  Job load_job(const std::string& name) const;
  // The usual settings where there is no such file. Throws usage: it does not read.
  Settings load_settings() const;
  // As change_job().
  void change_settings(const std::string& before, const std::string& text) const;
  // With an identity, unless a job of that name had one here before. Throws usage when there is one already.
  void create_job(const std::string& name, const std::string& text) const;
  // The job's file is replaced, if it still holds `before`. Throws Error of kind failed when somebody else
  // has changed it meanwhile.
  void change_job(const std::string& name, const std::string& before, const std::string& text) const;
  void remove_job(const std::string& name) const;
  // The job's file and what is remembered of it go under the new name. Killed in between, the job has one of
  // the two names, with its memory. Throws usage when there is a job of that name.
  void rename_job(const std::string& from, const std::string& to) const;

  // What is remembered of a job that has never run.
  JobState new_memory() const;
  std::optional<JobState> load_state(const std::string& job) const;
  void save_state(const std::string& job, const JobState& state) const;

 private:
  void make_state_folder() const;
  std::string config_;
  std::string state_;
  Id machine_{};
};

// What JobState::chain_keys holds of a key.
Digest key_check(const SecretKey& master);

}  // namespace kestrum
