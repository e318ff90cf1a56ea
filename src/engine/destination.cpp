#include "engine/destination.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>

#include "base/text.hpp"

namespace kestrum {
namespace {

[[noreturn]] void not_there(const std::string& message, const std::string& hint) {
  throw Error(ErrorKind::no_destination, message, hint);
}

// Two jobs whose names look alike as folders get folders of their own.
void choose_folder(Destination& destination, const Job& job, const std::optional<JobState>& state,
                   const std::string& machine) {
  std::string plain = safe_folder_name(machine) + "/" + safe_folder_name(job.name);
  for (int n = 1;; ++n) {
    destination.folder = n == 1 ? plain : plain + "-" + std::to_string(n);
    try {
      destination.identity = read_job_identity(*destination.store, destination.folder);
    } catch (const Error& error) {
      // The drive is the job's own and the folder has its name: the file is written anew by
      // claim_destination.
      bool known = state && state->drive && destination.drive && destination.drive->id == *state->drive;
      if (error.kind() != ErrorKind::damage || !known) throw;
      destination.identity.reset();
    }
    if (!destination.identity) return;
    bool ours = state ? destination.identity->job == state->job
                      : destination.identity->machine == to_utf8(machine) &&
                            destination.identity->name == to_utf8(job.name);
    if (ours) return;
  }
}

}  // namespace

// drive.json; where it is damaged, the job's own sets may prove the drive instead.
static std::optional<DriveIdentity> read_drive_or_sets(Destination& destination, const Job& job,
                                                       const std::optional<JobState>& state,
                                                       const std::string& machine) {
  try {
    return read_drive(*destination.store);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::damage || !state || !state->drive || !state->newest_core) throw;
    std::string folder = safe_folder_name(machine) + "/" + safe_folder_name(job.name);
    for (const FoundSet& set : read_sets(*destination.store, folder, state->job)) {
      if (!set.sealed() || set.seal->core_digest != *state->newest_core) continue;
      destination.drive_file_damaged = true;
      DriveIdentity drive;
      drive.id = *state->drive;
      drive.name = destination.root.substr(destination.root.rfind('/') + 1);
      drive.created = set.seal->core.facts.started;
      return drive;
    }
    throw;
  }
}

Destination find_destination(const Job& job, const std::optional<JobState>& state, const std::string& machine,
                             const OpenStore& open_store) {
  Destination destination;
  destination.root = locate_destination(job.destinations.at(0));
  std::string shown = printable(destination.root);
  struct stat status {};
  if (stat(destination.root.c_str(), &status) != 0) {
    if (errno != ENOENT && errno != ENOTDIR)
      not_there("the destination " + shown + " cannot be reached: " + system_reason(errno),
                "check the drive");
    not_there("the destination " + shown + " is not there",
              "connect the drive, or create the folder if this is its first use");
  }
  if (!S_ISDIR(status.st_mode))
    not_there("the destination " + shown + " is a file, not a folder",
              "name a folder in [where] destinations");
  destination.folder_identity = {status.st_dev, status.st_ino};
  struct stat root {};
  if (stat("/", &root) == 0 && root.st_dev == status.st_dev && root.st_ino == status.st_ino)
    not_there("the destination " + shown + " is the root of the system's own disk",
              "name a folder on another drive");
  destination.facts = drive_facts(destination.root);
  destination.store = open_store(destination.root);
  destination.drive = read_drive_or_sets(destination, job, state, machine);
  bool known = state && state->drive;
  if (known && !destination.drive) {
    not_there("the destination " + shown +
                  " is not the drive this job has written to: there is no drive.json in it",
              "is the drive mounted? An empty mount point looks like this");
  }
  if (known && destination.drive->id != *state->drive) {
    throw Error(ErrorKind::wrong_drive,
                "another drive is at " + shown + ": it is '" + printable(destination.drive->name) + "' (" +
                    to_hex(destination.drive->id).substr(0, 8) + "), the job has written to " +
                    to_hex(*state->drive).substr(0, 8),
                "connect the job's own drive; to begin anew on this one, define another job");
  }
  choose_folder(destination, job, state, machine);
  return destination;
}

void claim_destination(Destination& destination, const Job& job, const std::optional<JobState>& state,
                       const std::string& machine, const Clock& clock) {
  if (faccessat(AT_FDCWD, destination.root.c_str(), W_OK | X_OK, AT_EACCESS) != 0) {
    not_there(
        "the destination " + printable(destination.root) + " cannot be written: " + system_reason(errno),
        "check its permissions, and whether it is mounted read-only");
  }
  if (!destination.drive) {
    DriveIdentity drive;
    drive.id = random_id();
    drive.name = destination.root.substr(destination.root.rfind('/') + 1);
    drive.created = clock.now();
    drive.simulated = clock.simulated();
    FileHandle folder(open(destination.root.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (folder) drive.filesystem = identify_filesystem(destination.folder_identity.device, folder.get()).uuid;
    write_drive(*destination.store, drive);
    destination.drive = drive;
  }
  if (destination.drive_file_damaged) write_drive(*destination.store, *destination.drive);
  if (!destination.identity) {
    destination.store->make_folder(destination.folder);
    JobIdentity identity{state ? state->job : random_id(), to_utf8(machine), to_utf8(job.name), clock.now()};
    write_job_identity(*destination.store, destination.folder, identity);
    destination.identity = identity;
  }
  // Without encryption everybody who can read the sets can read the files, whatever modes those have.
  if (job.encryption == Encryption::none) destination.store->make_private(destination.folder);
}

void tidy_job_folder(Store& store, const std::string& folder, const Id& job,
                     const std::function<void(const std::string&)>& note) {
  for (const SetFolder& set : list_set_folders(store, folder)) {
    if (!set.unfinished_name && !set.removing) continue;
    FoundSet found = read_set(store, set, job);
    if (found.refusal) continue;
    if (!found.sealed()) {
      note("cleared what an interrupted run had left: " + set.name);
      remove_set_folder(store, set);
      continue;
    }
    // Sealed, but interrupted before the last strokes.
    std::string copy = set.path + "/" + seal_copy_name;
    std::string seal = set.path + "/" + seal_name;
    if (!store.exists(copy)) store.write_whole(copy, store.read_all(seal, limits::seal_file));
    for (const char* name : {open_name, reserve_name}) {
      if (store.exists(set.path + "/" + name)) store.remove(set.path + "/" + name);
    }
    store.rename(set.path, set.path.substr(0, set.path.size() - unfinished_mark.size()));
    store.flush_folder(folder);
    note("finished the name of set " + std::to_string(set.sequence));
  }
}

}  // namespace kestrum
