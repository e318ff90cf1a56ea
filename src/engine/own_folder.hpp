// Whether a job's folder at a destination is this home's to write: docs/ARCHITECTURE.md, "Two memories".
// Machines and jobs may have the same names, and homes may be copied; a folder is a home's own when it made
// it or took it over, and when nobody else has made points in it since.
#pragma once

#include <optional>

#include "archive/job_folder.hpp"
#include "base/error.hpp"

namespace kestrum {

class LookSession;
struct Destination;
struct Job;

struct NotOwn {
  enum class Why {
    namesake,        // another job of the same names lies there, and this one has no folder yet
    not_remembered,  // this home remembers neither making the folder nor taking it over
    other_machine,   // this home's memory is of another machine
    newer_points,    // made by another memory of the job: by a copy of this home, or before it was set back
  };
  Why why = Why::namesake;
  std::string folder;            // in the store
  std::string machine;           // as job.json has it
  std::string name;              // the same
  Sequence first = 0, last = 0;  // newer_points
};

// By what is known without a lock; nothing where the folder is the home's own, or there is none yet. By a
// path on a drive nothing is asked. `with_points`: newer ones are asked for, too; of an encrypted job they
// should have been proved before.
std::optional<NotOwn> not_own(const LookSession& session, bool with_points = true);

// What a run is refused with: of kind wrong_drive, with the ways on, a line each.
Error not_own_error(const LookSession& session, const NotOwn& why);
// The same of a destination that was found (Destination::namesake).
Error namesake_error(const Job& job, const Destination& found);

}  // namespace kestrum
