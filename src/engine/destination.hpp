// Where a job's sets go: the drive proves who it is before anything is written to it.
#pragma once

#include "base/observer.hpp"
#include "engine/home.hpp"
#include "engine/opened_place.hpp"
#include "source/walker.hpp"

namespace kestrum {

struct Destination : OpenedPlace {
  std::string named;                    // as the job names it
  std::string folder;                   // the job's, in the store
  std::optional<JobIdentity> identity;  // none: no run yet
  bool drive_file_damaged = false;      // its sets say that it is the job's own; the file is written anew
  bool moved = false;                   // the sets were brought to another drive; it becomes one of its own
};

// Looks, writes nothing. `named`: one of the job's. `state`: what home remembers of the job. Throws Error:
// no_destination, wrong_drive.
Destination find_destination(const Job& job, const std::string& named, const std::optional<JobState>& state,
                             const std::string& machine, const OpenStore& open_store = open_local_store,
                             DriveMeant meant = {});

// Which of its destinations a run of the job writes to.
struct DestinationChoice {
  std::vector<std::string> use;          // in order; never empty
  bool each = false;                     // a set on each; else the next one only when one is full
  bool one_after_the_other = false;      // drives are filled in a row
  std::optional<Error> trouble;          // of several, none can be used
  std::vector<std::string> notes;        // of those that cannot be used, why
  std::vector<std::string> passed_over;  // why, of those that could be and should hardly be
  std::vector<Problem> absent;           // where a set is to go to each: those that will get none
};
DestinationChoice choose_destinations(const Job& job, const std::optional<JobState>& state,
                                      const std::string& machine,
                                      const OpenStore& open_store = open_local_store, DriveMeant meant = {});

// None of the job's destinations is saved by it, whichever is written to.
void exclude_destinations(const Job& job, Selection& selection);

// Writes drive.json where it is missing. Afterwards the drive has its identity. Throws Error: no_destination
// when it cannot be written, full.
void claim_drive(Destination& destination, const Clock& clock);
// Writes job.json where it is missing. Needs the lock of the job's folder.
void claim_job_folder(Destination& destination, const Job& job, const std::optional<JobState>& state,
                      const std::string& machine, const Clock& clock);

// Where a job's folder would be, were it the first of its name.
std::string usual_folder(const std::string& machine, const std::string& job);

}  // namespace kestrum
