// SUBJECT of a command: a job's name, or a path on a destination. Either way a place with archive sets in it.
#pragma once

#include "archive/chain_reader.hpp"
#include "calendar/local_time.hpp"
#include "engine/home.hpp"
#include "engine/passphrase_source.hpp"

namespace kestrum {

struct SubjectOptions {
  std::string subject;
  std::string machine;  // choose among several; empty: any
  std::string job;
  std::optional<std::string> passphrase;    // source, overrides the job's
  std::optional<std::string> recovery_key;  // file with the secret part
  AskPassphrase ask;
  std::string destination = {};  // of a job with several, as it names it; empty: the first
};

// An opened job folder on a destination. Reading needs no home.
class Subject {
 public:
  // Throws Error: usage (no such job, several to choose from), no_destination (not there, or no destination
  // at all).
  static Subject open(const Home* home, const SubjectOptions& options);

  // A job with several destinations: one for each that is connected; anything else: the one. `away` is told
  // of those that are not there. Throws as `open` does when none is.
  static std::vector<Subject> open_each(const Home* home, const SubjectOptions& options,
                                        const std::function<void(const std::string&)>& away);

  // The drive's, or where that does not read the last part of the root's path.
  std::string drive_name() const;
  Store& store() const { return *store_; }
  const std::string& root() const { return root_; }      // of the store, on this machine
  const std::string& folder() const { return folder_; }  // the job's, in the store
  const JobIdentity& identity() const { return identity_; }
  const std::optional<Job>& job() const { return job_; }
  // What is wrong with the job's folder itself; empty when nothing.
  const std::string& finding() const { return finding_; }
  // The set that the path named, if it named one.
  const std::optional<Sequence>& named_set() const { return named_set_; }
  KeyRing& keys() const { return *keys_; }
  // Reads the seals afresh.
  std::vector<FoundSet> sets() const { return read_sets(*store_, folder_, identity_.job); }

 private:
  std::string root_;
  std::string folder_;
  std::unique_ptr<Store> store_;
  JobIdentity identity_;
  std::string finding_;
  std::optional<Job> job_;
  std::optional<Sequence> named_set_;
  std::unique_ptr<KeyRing> keys_;
};

// Every job's folder below a destination's root.
struct JobPlace {
  std::string folder;
  JobIdentity identity;
  std::string finding;  // when job.json is lost and the seals had to say whose sets these are
};
std::vector<JobPlace> list_jobs_at(const Store& store);
// Nothing when it is no job's folder.
std::optional<JobPlace> identify_job(const Store& store, const std::string& folder);

// The point that is wished for: the newest sealed set not later than the moment. Throws usage when there is
// none, saying which there are.
const FoundSet& choose_point(const std::vector<FoundSet>& sets, const PointWish& wish);
// The wish itself: `text`, or the set that the subject named, or the latest.
PointWish wish_for(const Subject& subject, const std::optional<std::string>& text, Instant now);
// The same over several drives: "tern-1:12" names the drive; a number alone must be on one of them only; else
// the newest point of all of them counts.
struct DrivePoint {
  std::size_t subject = 0;
  PointWish wish;
};
DrivePoint choose_drive(const std::vector<Subject>& subjects, const std::optional<std::string>& text,
                        Instant now);
// "12 (full, 2027-03-01 20:30 CET)"
std::string point_text(const SetFacts& facts);

}  // namespace kestrum
