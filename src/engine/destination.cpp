#include "engine/destination.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "archive/found_set.hpp"
#include "base/filesystem_uuid.hpp"
#include "base/mount_table.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

[[noreturn]] void not_there(const std::string& message, const std::string& hint) {
  throw Error(ErrorKind::no_destination, message, hint);
}

// A job that was renamed keeps its folder, which its number tells.
void under_another_name(Destination& destination, const std::optional<JobState>& state) {
  if (!state) return;
  for (const JobPlace& place : list_jobs_at(*destination.store)) {
    if (place.identity.job != state->job || place.folder == destination.folder) continue;
    destination.folder = place.folder;
    destination.identity = place.identity;
    destination.job_file_lost = !place.finding.empty();
    return;
  }
}

// The file that says whose the folder is is not there, or does not read; its sets may.
void identity_by_sets(Destination& destination, const std::optional<JobState>& state) {
  if (!state) return;
  const std::optional<JobPlace> place = identify_job(*destination.store, destination.folder);
  if (!place || place->identity.job != state->job) return;
  destination.identity = place->identity;
  destination.job_file_lost = true;
}

// Two jobs whose names look alike as folders get folders of their own, and so do two of the same names, if
// that is what somebody wants.
void choose_folder(Destination& destination, const Job& job, const std::optional<JobState>& state,
                   const std::string& machine) {
  std::string plain = usual_folder(machine, job.name);
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
      destination.job_file_lost = true;
    }
    if (!destination.identity) identity_by_sets(destination, state);
    if (!destination.identity) break;
    const bool named_so =
        destination.identity->machine == to_utf8(machine) && destination.identity->name == to_utf8(job.name);
    destination.by_names = !state && named_so;
    if (state ? destination.identity->job == state->job : named_so) break;
    if (named_so && !destination.namesake)
      destination.namesake = JobPlace{destination.folder, *destination.identity, {}};
  }
  if (!destination.identity) under_another_name(destination, state);
  if (destination.identity) destination.namesake.reset();
}

std::string short_id(const Id& id) {
  return to_hex(id).substr(0, 8);
}

// A copy of a drive's content is not that drive: both would go on with the same numbers.
void refuse_copies(Destination& destination, DriveMeant meant) {
  if (!destination.drive || destination.drive->filesystem.empty()) return;
  const std::string& known = destination.drive->filesystem;
  FileHandle folder(open(destination.root.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  std::string by_kernel = folder ? filesystem_uuid(folder.get()) : std::string();
  const std::string& by_device = destination.facts.uuid;
  bool told = !by_kernel.empty() || !by_device.empty();
  if (!told || known == by_kernel || known == by_device) return;
  if (meant.anything()) {
    destination.moved = true;
    return;
  }
  throw Error(ErrorKind::wrong_drive,
              "what is in " + printable(destination.root) + " was copied there from the drive '" +
                  printable(destination.drive->name) + "': its drive.json names another file system",
              "connect the drive itself; if the sets were moved here for good, run the job with --moved");
}

void refuse_other_drives(const Destination& destination, const std::optional<JobState>& state,
                         DriveMeant meant) {
  const DriveState* known = state ? state->at(destination.named) : nullptr;
  bool own = state && destination.drive && state->drive(destination.drive->id) != nullptr;
  if (known == nullptr || own || meant.new_drive) return;
  std::string shown = printable(destination.root);
  if (!destination.drive)
    not_there("the destination " + shown +
                  " is not the drive this job has written to: there is no drive.json in it",
              "is the drive mounted? An empty mount point looks like this; if it is a new drive, run the job "
              "once with "
              "--new-drive");
  throw Error(
      ErrorKind::wrong_drive,
      "another drive is at " + shown + ": it is '" + printable(destination.drive->name) + "' (" +
          short_id(destination.drive->id) + "), the job has written to " + short_id(known->drive),
      "connect the job's own drive; if the job is to begin anew on this one, run it once with --new-drive");
}

}  // namespace

void prove_drive_by_sets(Destination& destination, const std::optional<JobState>& state) {
  const auto unproved = [&] {
    if (destination.drive_trouble) throw *destination.drive_trouble;
  };
  if (destination.drive && !destination.drive_trouble) return;
  const DriveState* known = state ? state->at(destination.named) : nullptr;
  if (known == nullptr || !known->newest_core) return unproved();
  for (const JobPlace& place : list_jobs_at(*destination.store)) {
    if (place.identity.job != state->job) continue;
    for (const FoundSet& set : SetList(*destination.store, place.folder, state->job)) {
      if (!set.sealed() || set.seal->core_digest != *known->newest_core) continue;
      destination.drive_file_lost = true;
      destination.drive =
          DriveIdentity{known->drive, destination.name(), set.facts().started, destination.facts.uuid, false};
      return;
    }
  }
  unproved();
}

std::vector<std::string> lost_file_lines(const Destination& destination) {
  std::vector<std::string> lines;
  const auto tell = [&](const std::string& path, const std::string& whose) {
    lines.push_back(destination.store->describe(path) +
                    " is lost or does not read; the sets there say that " + whose +
                    " all the same, and kestrum repair, or the next run, writes it anew");
  };
  if (destination.drive_file_lost) tell(drive_name, "it is the job's drive");
  if (destination.job_file_lost)
    tell(in_folder(destination.folder, job_identity_name), "the folder is the job's");
  return lines;
}

std::string usual_folder(const std::string& machine, const std::string& job) {
  return safe_folder_name(machine) + "/" + safe_folder_name(job);
}

Destination find_destination(const Job& job, const std::string& named, const std::optional<JobState>& state,
                             const std::string& machine, const OpenStore& open_store, DriveMeant meant) {
  Destination destination{open_place(DestinationAddress::parse(named), open_store), named, {}, {}};
  struct stat root {};
  if (stat("/", &root) == 0 && FolderIdentity{root.st_dev, root.st_ino} == destination.folder_identity)
    not_there("the destination " + printable(destination.root) + " is the root of the system's own disk",
              "name a folder on another drive");
  prove_drive_by_sets(destination, state);
  refuse_other_drives(destination, state, meant);
  refuse_copies(destination, meant);
  choose_folder(destination, job, state, machine);
  return destination;
}

namespace {

struct Connected {
  std::string named;
  Id drive{};
  std::string root;
  Instant written;            // the job's newest set there
  bool no_drive_yet = false;  // looks like the mount point of a drive that is not there
};

// Nothing has ever been written there, and it lies on the machine's own disk or in its memory: not a drive of
// its own, but where one is mounted at other times.
bool looks_unmounted(const Destination& found, const Job& job, DriveMeant meant) {
  if (found.drive || job.same_disk || meant.new_drive) return false;
  struct stat status {};
  const std::string& root = found.root;
  if (stat(root.c_str(), &status) != 0) return false;
  const Mount* holds = nullptr;
  const std::vector<Mount> mounts = read_mount_table();
  for (const Mount& mount : mounts) {
    if (mount.device == status.st_dev &&
        (root + "/").starts_with(mount.mount == "/" ? "/" : mount.mount + "/"))
      holds = &mount;
  }
  if (holds == nullptr || holds->mount == root) return false;
  return holds->mount == "/" || holds->type == "tmpfs";
}

std::vector<Connected> connected_of(const Job& job, const std::optional<JobState>& state,
                                    const std::string& machine, const OpenStore& open_store, DriveMeant meant,
                                    DestinationChoice& choice) {
  std::vector<Connected> there;
  for (const std::string& named : job.destinations) {
    try {
      Destination found = find_destination(job, named, state, machine, open_store, meant);
      Connected one{named, {}, found.root, {}, looks_unmounted(found, job, meant)};
      if (found.drive) one.drive = found.drive->id;
      if (const DriveState* known = state && found.drive ? state->drive(found.drive->id) : nullptr)
        one.written = known->written;
      bool twice = std::any_of(there.begin(), there.end(), [&](const Connected& other) {
        return other.root == one.root || (found.drive && other.drive == one.drive);
      });
      if (!twice) there.push_back(std::move(one));
    } catch (const Error& error) {
      choice.notes.emplace_back(error.what());
      if (job.use == UseOf::all) choice.absent.push_back({printable(named), "write a set to", error.what()});
      bool worse = error.kind() != ErrorKind::no_destination;
      if (!choice.trouble || worse) choice.trouble = error;
    }
  }
  return there;
}

// As long as there is another choice.
void pass_over_unmounted(const Job& job, std::vector<Connected>& there, DestinationChoice& choice) {
  bool all = std::all_of(there.begin(), there.end(), [](const Connected& one) { return one.no_drive_yet; });
  if (all) return;
  std::erase_if(there, [&](const Connected& one) {
    if (one.no_drive_yet && job.use == UseOf::all)
      choice.absent.push_back({printable(one.named), "write a set to", "no drive is mounted there"});
    if (one.no_drive_yet)
      choice.passed_over.push_back(
          printable(one.named) +
          " is a folder of this machine to which the job has never written, as if its drive were not "
          "mounted: it "
          "is passed over; if that folder is meant, run the job once with --new-drive");
    return one.no_drive_yet;
  });
}

}  // namespace

DestinationChoice choose_destinations(const Job& job, const std::optional<JobState>& state,
                                      const std::string& machine, const OpenStore& open_store,
                                      DriveMeant meant) {
  DestinationChoice choice;
  choice.use = {job.destinations.at(0)};
  if (job.destinations.size() == 1) return choice;
  std::vector<Connected> there = connected_of(job, state, machine, open_store, meant, choice);
  if (there.empty()) {
    if (choice.trouble->kind() == ErrorKind::no_destination)
      choice.trouble = Error(ErrorKind::no_destination,
                             "none of the " + std::to_string(job.destinations.size()) +
                                 " destinations can be used: " + join(choice.notes, "; "),
                             "connect one of the drives");
    return choice;
  }
  choice.trouble.reset();
  pass_over_unmounted(job, there, choice);
  auto earlier = [](const Connected& a, const Connected& b) { return a.written < b.written; };
  // Taking turns: the one that was written longest ago. Going on: from the one written last.
  if (job.use == UseOf::whichever) {
    std::stable_sort(there.begin(), there.end(), earlier);
  } else if (job.use == UseOf::next_when_full) {
    std::rotate(there.begin(), std::max_element(there.begin(), there.end(), earlier), there.end());
  }
  choice.each = job.use == UseOf::all;
  choice.one_after_the_other = job.use == UseOf::next_when_full;
  choice.use.clear();
  for (const Connected& one : there) choice.use.push_back(one.named);
  return choice;
}

void exclude_destinations(const Job& job, Selection& selection) {
  for (const std::string& named : job.destinations) {
    try {
      struct stat status {};
      std::string root = locate_destination(DestinationAddress::parse(named));
      if (stat(root.c_str(), &status) == 0) selection.excluded.push_back({status.st_dev, status.st_ino});
    } catch (const Error&) {
      // Not connected: then it is not in the way either.
    }
  }
}

void claim_drive(Destination& destination, const Clock& clock) {
  if (faccessat(AT_FDCWD, destination.root.c_str(), W_OK | X_OK, AT_EACCESS) != 0) {
    not_there(
        "the destination " + printable(destination.root) + " cannot be written: " + system_reason(errno),
        "check its permissions, and whether it is mounted read-only");
  }
  Store& store = *destination.store;
  if (!destination.drive) {
    DriveIdentity drive{random_id(), destination.name(), clock.now(), destination.facts.uuid,
                        clock.simulated()};
    // Two that come first at the same moment: one of them names the drive.
    destination.drive = create_drive(store, drive) ? drive : read_drive(store);
    if (!destination.drive)
      throw Error(ErrorKind::busy,
                  "somebody else begins in " + printable(destination.root) + " at the same moment",
                  "run it again");
    return;
  }
  if (destination.moved) {
    destination.drive->id = random_id();
    destination.drive->filesystem = destination.facts.uuid;
  }
  if (destination.moved || destination.drive_file_lost) write_drive(store, *destination.drive);
}

void take_new_name(Destination& destination, const Job& job, const JobState& state,
                   const std::string& machine) {
  JobIdentity& identity = *destination.identity;
  const std::string name = to_utf8(job.name), here = to_utf8(machine);
  const bool same = identity.name == name && identity.machine == here && identity.machine_id == state.machine;
  if (identity.job != state.job || same) return;
  identity.name = name;
  identity.machine = here;
  identity.machine_id = state.machine;
  write_job_identity(*destination.store, destination.folder, *destination.identity);
}

void claim_job_folder(Destination& destination, const Job& job, const JobState& state,
                      const std::string& machine, const Clock& clock) {
  Store& store = *destination.store;
  if (!destination.identity) {
    JobIdentity own{state.job, to_utf8(machine), to_utf8(job.name), clock.now(), state.machine};
    // Somebody else may have been first between our looking and our lock.
    std::optional<JobIdentity> there;
    try {
      if (!create_job_identity(store, destination.folder, own))
        there = read_job_identity(store, destination.folder);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::damage) throw;
      write_job_identity(store, destination.folder, own);
    }
    bool same = there && there->machine == own.machine && there->name == own.name && there->job == state.job;
    if (there && !same)
      throw Error(ErrorKind::busy,
                  "another job has begun in " + store.describe(destination.folder) + " at the same moment",
                  "run it again");
    destination.identity = there ? *there : own;
  }
  if (destination.job_file_lost) write_job_identity(store, destination.folder, *destination.identity);
  // Without encryption everybody who can read the sets can read the files, whatever modes those have.
  if (job.encryption == Encryption::none) store.make_private(destination.folder);
}

}  // namespace kestrum
