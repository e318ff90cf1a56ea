#include "engine/write_guard.hpp"

#include "base/text.hpp"

namespace kestrum {

std::optional<Error> WriteGuard::drive_trouble() const {
  if (destination_.store->still_there()) return std::nullopt;
  std::string shown = printable(destination_.root);
  try {
    std::optional<DriveIdentity> now = read_drive(*open_local_store(destination_.root));
    bool same = now && destination_.drive && now->id == destination_.drive->id;
    if (now && !same)
      return Error(
          ErrorKind::wrong_drive,
          "another drive was mounted at " + shown + " meanwhile: it is '" + printable(now->name) + "'",
          "connect the job's own drive and run it again");
  } catch (const Error&) {
    // Whatever is there now, it is not our drive.
  }
  return Error(ErrorKind::no_destination, "the destination " + shown + " was unmounted meanwhile",
               "mount the drive and run it again; the points made before are as they were");
}

void WriteGuard::check() const {
  if (std::optional<Error> trouble = drive_trouble()) throw *trouble;
  lock_.check();
}

Error WriteGuard::explain(const Error& error) const {
  if (error.kind() != ErrorKind::failed && error.kind() != ErrorKind::not_reachable &&
      error.kind() != ErrorKind::full && error.kind() != ErrorKind::damage)
    return error;
  return drive_trouble().value_or(error);
}

}  // namespace kestrum
