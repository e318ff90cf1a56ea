// Where a run writes: the drive proves who it is before anything is written to it.
#pragma once

#include "archive/job_folder.hpp"
#include "base/observer.hpp"
#include "engine/home.hpp"
#include "source/walker.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {

using OpenStore = std::function<std::unique_ptr<Store>(const std::string& root)>;

struct Destination {
  std::string named;  // as the job names it
  std::string root;   // where it is mounted now
  DriveFacts facts;
  std::unique_ptr<Store> store;
  std::optional<DriveIdentity> drive;   // none: not used yet
  std::string folder;                   // the job's, in the store
  std::optional<JobIdentity> identity;  // none: no run yet
  bool drive_file_damaged = false;      // its sets say that it is the job's own; the file is written anew
  FolderIdentity folder_identity;       // of the root, so that a walk leaves it out
};

// Looks, writes nothing. `named`: one of the job's. `state`: what home remembers of the job. Throws Error:
// no_destination, wrong_drive.
Destination find_destination(const Job& job, const std::string& named, const std::optional<JobState>& state,
                             const std::string& machine, const OpenStore& open_store = open_local_store);

// Which of its destinations a run of the job writes to.
struct DestinationChoice {
  std::vector<std::string> use;    // in order; never empty
  bool each = false;               // a set on each; else the next one only when one is full
  std::optional<Error> trouble;    // of several, none can be used
  std::vector<std::string> notes;  // of those that cannot be used, why
};
DestinationChoice choose_destinations(const Job& job, const std::optional<JobState>& state,
                                      const std::string& machine,
                                      const OpenStore& open_store = open_local_store);

// None of the job's destinations is saved by it, whichever is written to.
void exclude_destinations(const Job& job, Selection& selection);

// Writes drive.json and job.json where they are missing. Afterwards both identities are there. Throws Error:
// no_destination when it cannot be written, full.
void claim_destination(Destination& destination, const Job& job, const std::optional<JobState>& state,
                       const std::string& machine, const Clock& clock);

// Clears what killed runs left, and finishes what they had only left undone: marks on names, second seals.
// Needs the lock. `note` is told of each.
void tidy_job_folder(Store& store, const std::string& folder, const Id& job,
                     const std::function<void(const std::string&)>& note);

}  // namespace kestrum
