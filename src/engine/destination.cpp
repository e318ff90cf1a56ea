#include "engine/destination.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
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
      bool known = state && destination.drive && state->drive(destination.drive->id) != nullptr;
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
    const DriveState* known = state ? state->at(destination.named) : nullptr;
    if (error.kind() != ErrorKind::damage || known == nullptr || !known->newest_core) throw;
    std::string folder = safe_folder_name(machine) + "/" + safe_folder_name(job.name);
    for (const FoundSet& set : read_sets(*destination.store, folder, state->job)) {
      if (!set.sealed() || set.seal->core_digest != *known->newest_core) continue;
      destination.drive_file_damaged = true;
      DriveIdentity drive;
      drive.id = known->drive;
      drive.name = destination.root.substr(destination.root.rfind('/') + 1);
      drive.created = set.seal->core.facts.started;
      return drive;
    }
    throw;
  }
}

Destination find_destination(const Job& job, const std::string& named, const std::optional<JobState>& state,
                             const std::string& machine, const OpenStore& open_store) {
  Destination destination;
  destination.named = named;
  destination.root = locate_destination(named);
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
  const DriveState* known = state ? state->at(named) : nullptr;
  bool own = state && destination.drive && state->drive(destination.drive->id) != nullptr;
  if (known != nullptr && !destination.drive) {
    not_there("the destination " + shown +
                  " is not the drive this job has written to: there is no drive.json in it",
              "is the drive mounted? An empty mount point looks like this");
  }
  if (known != nullptr && !own) {
    throw Error(ErrorKind::wrong_drive,
                "another drive is at " + shown + ": it is '" + printable(destination.drive->name) + "' (" +
                    to_hex(destination.drive->id).substr(0, 8) + "), the job has written to " +
                    to_hex(known->drive).substr(0, 8),
                "connect the job's own drive; to begin anew on this one, define another job");
  }
  choose_folder(destination, job, state, machine);
  return destination;
}

namespace {

struct Connected {
  std::string named;
  Id drive{};
  std::string root;
  Instant written;  // the job's newest set there
};

std::vector<Connected> connected_of(const Job& job, const std::optional<JobState>& state,
                                    const std::string& machine, const OpenStore& open_store,
                                    DestinationChoice& choice) {
  std::vector<Connected> there;
  for (const std::string& named : job.destinations) {
    try {
      Destination found = find_destination(job, named, state, machine, open_store);
      Connected one{named, {}, found.root, {}};
      if (found.drive) one.drive = found.drive->id;
      if (const DriveState* known = state && found.drive ? state->drive(found.drive->id) : nullptr)
        one.written = known->written;
      bool twice = std::any_of(there.begin(), there.end(), [&](const Connected& other) {
        return other.root == one.root || (found.drive && other.drive == one.drive);
      });
      if (!twice) there.push_back(std::move(one));
    } catch (const Error& error) {
      choice.notes.emplace_back(error.what());
      bool worse = error.kind() != ErrorKind::no_destination;
      if (!choice.trouble || worse) choice.trouble = error;
    }
  }
  return there;
}

}  // namespace

DestinationChoice choose_destinations(const Job& job, const std::optional<JobState>& state,
                                      const std::string& machine, const OpenStore& open_store) {
  DestinationChoice choice;
  choice.use = {job.destinations.at(0)};
  if (job.destinations.size() == 1) return choice;
  std::vector<Connected> there = connected_of(job, state, machine, open_store, choice);
  if (there.empty()) {
    if (choice.trouble->kind() == ErrorKind::no_destination)
      choice.trouble = Error(ErrorKind::no_destination,
                             "none of the " + std::to_string(job.destinations.size()) +
                                 " destinations can be used: " + join(choice.notes, "; "),
                             "connect one of the drives");
    return choice;
  }
  choice.trouble.reset();
  auto earlier = [](const Connected& a, const Connected& b) { return a.written < b.written; };
  // Taking turns: the one that was written longest ago. Going on: from the one written last.
  if (job.use == UseOf::whichever) {
    there = {*std::min_element(there.begin(), there.end(), earlier)};
  } else if (job.use == UseOf::next_when_full) {
    std::rotate(there.begin(), std::max_element(there.begin(), there.end(), earlier), there.end());
  }
  choice.each = job.use == UseOf::all;
  choice.use.clear();
  for (const Connected& one : there) choice.use.push_back(one.named);
  return choice;
}

void exclude_destinations(const Job& job, Selection& selection) {
  for (const std::string& named : job.destinations) {
    try {
      struct stat status {};
      std::string root = locate_destination(named);
      if (stat(root.c_str(), &status) == 0) selection.excluded.push_back({status.st_dev, status.st_ino});
    } catch (const Error&) {
      // Not connected: then it is not in the way either.
    }
  }
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
  std::vector<SetFolder> folders = list_set_folders(store, folder);
  std::erase_if(folders, [](const SetFolder& set) { return !set.unfinished_name && !set.removing; });
  if (folders.empty()) return;
  // What a folded set still takes files from is cleared by finish_fold, once there is a key to trust its
  // seal.
  std::vector<FoundSet> sets = read_sets(store, folder, job);
  auto is_covered = [&](const SetFolder& set) {
    return std::any_of(sets.begin(), sets.end(), [&](const FoundSet& folded) {
      return std::any_of(folded.covered.begin(), folded.covered.end(),
                         [&](const SetFolder& covered) { return covered.path == set.path; });
    });
  };
  for (const SetFolder& set : folders) {
    if (is_covered(set)) continue;
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
