// A place that archive sets lie in or may be put into, opened: the one way there, for jobs and for SUBJECT.
#pragma once

#include <sys/types.h>

#include <functional>

#include "archive/job_folder.hpp"
#include "source/selection.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {

using OpenStore = std::function<std::unique_ptr<Store>(const std::string& root)>;

// What a person says of a drive that is not as this machine remembers it, or of the sets on it.
struct DriveMeant {
  bool moved = false;           // the sets were brought here for good, or set back: the job goes on from them
  bool new_drive = false;       // it is another drive than before, and the job begins on it
  bool new_passphrase = false;  // a new chain begins with it, beside what it does not open
  bool beside = false;          // where the job's folder is not this home's, it begins in one beside it
  bool anything() const { return moved || new_drive; }
};

// The destination that a drive holds, seen from its top: the folder itself, or the one at most two levels
// below it that has a drive.json; the folder itself where there is none. What this user may not enter is
// passed over. Throws Error of kind usage when there are several.
std::string destination_in(const std::string& top);

struct OpenedPlace {
  std::string root;  // where it is on this machine
  DriveFacts facts;
  std::unique_ptr<Store> store;  // holds the folder, whatever happens to the path
  std::optional<DriveIdentity> drive;
  std::optional<Error> drive_trouble;  // drive.json is there and does not read
  FolderIdentity folder_identity;      // of the root, so that a walk leaves it out

  // The drive's name, or where that is not known the last part of the path.
  std::string name() const;
};

// Throws Error: no_destination when it is not there, is no folder, or its drive is not mounted.
OpenedPlace open_place(const DestinationAddress& address, const OpenStore& open_store);

// A job's folder below the root of a place.
struct JobPlace {
  std::string folder;  // in the store
  JobIdentity identity;
  std::string finding;  // when job.json is lost and the seals had to say whose sets these are
};
// Every one, down to the second level, where drive.json puts them; also where there is none. Folders that may
// not be listed are passed over.
std::vector<JobPlace> list_jobs_at(const Store& store);
// Nothing when it is no job's folder.
std::optional<JobPlace> identify_job(const Store& store, const std::string& folder);

}  // namespace kestrum
