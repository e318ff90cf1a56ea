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
  bool by_names = false;                // nothing is remembered of the job: its folder was found by its names
  // Another job of the same names, where this one has no folder yet: `folder` is one beside it.
  std::optional<JobPlace> namesake = {};
  // The file is lost or damaged, and the job's sets say that the drive is its own, and the folder: a writer
  // writes it anew.
  bool drive_file_lost = false, job_file_lost = false;
  bool moved = false;  // the sets were brought to another drive; it becomes one of its own
};

// Looks, writes nothing. `named`: one of the job's. `state`: what home remembers of the job. Throws Error:
// no_destination, wrong_drive.
Destination find_destination(const Job& job, const std::string& named, const std::optional<JobState>& state,
                             const std::string& machine, const OpenStore& open_store = open_local_store,
                             DriveMeant meant = {});

// Where drive.json is lost or damaged, the job's newest set may prove the drive instead, by what home
// remembers of it. Throws Error of kind damage where it is damaged and nothing proves it; lost it stays
// without.
void prove_drive_by_sets(Destination& destination, const std::optional<JobState>& state);
// What is wrong with the small files that say whose the drive is, and the folder: a line each.
std::vector<std::string> lost_file_lines(const Destination& destination);

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
void claim_job_folder(Destination& destination, const Job& job, const JobState& state,
                      const std::string& machine, const Clock& clock);
// The job was renamed since, or its machine was, or it goes on on another one: job.json says so.
void take_new_name(Destination& destination, const Job& job, const JobState& state,
                   const std::string& machine);

// Where a job's folder would be, were it the first of its name.
std::string usual_folder(const std::string& machine, const std::string& job);

}  // namespace kestrum
