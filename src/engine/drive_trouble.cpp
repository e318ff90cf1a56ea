#include "engine/drive_trouble.hpp"

#include <cerrno>

#include "base/text.hpp"

namespace kestrum {
namespace {

// Still mounted, but its device is gone: then not even its top folder can be flushed. One place of a drive
// that does not read is no such case.
bool answers(const Destination& destination) {
  try {
    destination.store->flush_folder("");
    return true;
  } catch (const Error&) {
    return false;
  }
}

}  // namespace

std::optional<Error> drive_trouble(const Destination& destination) {
  if (destination.store->still_there()) return std::nullopt;
  const std::string shown = printable(destination.root);
  try {
    std::optional<DriveIdentity> now = read_drive(*open_local_store(destination.root));
    bool same = now && destination.drive && now->id == destination.drive->id;
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

Error seen_with_drive(const Destination& destination, const Error& error) {
  if (error.kind() != ErrorKind::failed && error.kind() != ErrorKind::not_reachable &&
      error.kind() != ErrorKind::full && error.kind() != ErrorKind::damage)
    return error;
  if (std::optional<Error> trouble = drive_trouble(destination)) return *trouble;
  // A drive that is gone may look like a damaged one.
  const bool may_be_silent = error.system_code() == EIO || error.kind() == ErrorKind::damage;
  if (!may_be_silent || answers(destination)) return error;
  return Error(ErrorKind::no_destination,
               "the drive of the destination " + printable(destination.root) + " does not answer any more",
               "connect it again, mount it, and run it again; the points made before are as they were");
}

}  // namespace kestrum
