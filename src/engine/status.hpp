// How jobs stand: from the drives that are there, else from the history.
#pragma once

#include "engine/check_desk.hpp"
#include "engine/look.hpp"

namespace kestrum {

// What is wrong with a job. The first are the worst.
enum class TroubleKind {
  suspect,     // a point is, and nobody has said what to make of it
  job_file,    // does not read
  damaged,     // points are
  incomplete,  // points lack a set that they need
  gone,        // the point that was made last is not there any more
  refused,     // the next run is, until a person says what to make of the drive
  failed,      // the last run
  overdue,     // no good point for longer than the job allows
  missed,      // a run was due and none came
  waits,       // a run is due, and its drive is not there
  never_run,   // no run is known
  no_point,    // there is none yet
  soon,        // there will be no good point for longer than the job allows
  unchecked,   // the last check of everything could not be made
  drill,       // the last rehearsed restore did not go well, or could not be made
  clock,       // something was made later than it is now
  cut_off,     // the last run has no end: it still goes on, or was cut off
  unfinished,  // a point was begun, and the next run goes on with it
  drive_away,  // a set is to go to each drive, and one is not there
  drive_bare,  // a set is to go to each drive, and one that is there has no good point
  broken,      // the last run on a drive did not keep a rule of [keep], to make room
  place,       // something is wrong with the drive's own files
  problems,    // the last run had some
  page,        // its report page cannot be written
};

// One word of it, which stays the same: "job-file".
const char* trouble_name(TroubleKind kind);

struct JobTrouble {
  TroubleKind kind = TroubleKind::failed;
  std::string text = {};    // what was said, where it was said in words
  std::string advice = {};  // what to do, where that was said with it
  std::uint64_t count = 0;  // of points, or of problems; job_file: 1 where the last good form counts
  Instant when = {};        // of what was missed, or of what is dated later than now
  BrokenRule broken = {};
  std::string drive = {};  // as the job names it; empty: it is not of one drive, or there is only one
};

// One of a job's destinations.
struct DriveStatus {
  std::string named;  // as the job names it
  std::string root;   // where it is; empty: not connected
  std::optional<Instant> newest_good;
  std::optional<StoreSpace> space;
  std::vector<PointInfo> points = {};     // in order; none where the drive is not there
  std::optional<LeftPoint> left = {};     // of a run that was broken off
  std::optional<Instant> way_tried = {};  // when a person last proved that a way in opens it
};

struct JobStatus {
  std::string machine;  // of the status of a destination
  std::string job;
  std::string folder;  // of the status of a destination where another one has the same names: which it is
  bool disabled = false;
  bool encrypted = false;  // the job
  std::optional<RunEntry> last;
  std::optional<Instant> newest_good;  // start of the newest good point on any of its drives
  std::vector<DriveStatus> drives;     // at least one, unless the job file does not read
  std::vector<JobTrouble> troubles;    // worst first
  DueLook times;                       // what is due, what comes next
  CheckLook checks;                    // of everything it has
  CheckLook drills;                    // rehearsed restores
};

// Worst first. `names`: none means every job of the home. Throws Error of kind usage for a name that is no
// job.
std::vector<JobStatus> job_status(std::vector<std::string> names, const RunContext& context);

// Every machine and job on a destination, by what its seals and sizes say; needs no key and no home.
std::vector<JobStatus> place_status(const DestinationAddress& address, const OpenStore& open_store,
                                    Instant now);

}  // namespace kestrum
