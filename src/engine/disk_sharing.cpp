#include "engine/disk_sharing.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/job_selection.hpp"
#include "source/change_watch.hpp"

namespace kestrum {

std::string shared_disk(const Selection& selection, const std::string& destination, const DriveFacts& drive) {
  std::vector<std::string> disks(drive.disks.begin(), drive.disks.end());
  for (const TreePath& source : selection.sources) {
    DriveFacts own;
    try {
      own = drive_facts(source.absolute());
    } catch (const Error&) {
      continue;  // not there: a problem of the run
    }
    if (!share_disk(own, drive)) continue;
    std::string how = own.device == drive.device ? "the same file system as " : "the same disk as ";
    return "the destination " + printable(destination) + " lies on " + how + printable(source.absolute()) +
           (disks.empty() ? "" : " (" + join(disks, ", ") + ")") + ": a broken disk would take both";
  }
  return {};
}

void refuse_shared_disk(const std::string& shared) {
  throw Error(ErrorKind::usage, shared,
              "choose a folder on another drive; if that is meant all the same, give --same-disk");
}

DestinationView view_destination(const Job& job, const People& people, Instant now) {
  DestinationView view;
  view.root = job.destinations.at(0);
  std::string shown = "the destination " + printable(view.root) + " ";
  Selection selection =
      select(job.what, people, now, [&](const std::string& text) { view.notes.push_back(text); });
  for (const std::string& text : phrase_notes(job.runs, now, job.window)) view.notes.push_back(text);
  if (std::string why = runs_on_change(job) ? unwatchable_place(selection) : ""; !why.empty())
    view.notes.push_back("the sources cannot be watched, so it would run at its interval only: " + why);
  try {
    view.root = locate_destination(DestinationAddress::parse(view.root));
    struct stat status {};
    if (stat(view.root.c_str(), &status) != 0) {
      view.trouble = shown +
                     (errno == ENOENT ? "is not there now" : "cannot be reached: " + system_reason(errno)) +
                     "; connect the drive, or create the folder";
      return view;
    }
    if (!S_ISDIR(status.st_mode))
      throw Error(ErrorKind::usage, shown + "is a file, not a folder", "name a folder on another drive");
    struct stat root {};
    if (stat("/", &root) == 0 && root.st_dev == status.st_dev && root.st_ino == status.st_ino)
      throw Error(ErrorKind::usage, shown + "is the root of the system's own disk",
                  "name a folder on another drive");
    view.drive = drive_facts(view.root);
  } catch (const Error& error) {
    if (error.kind() == ErrorKind::usage) throw;
    view.trouble = error.what() + (error.hint().empty() ? std::string() : "; " + error.hint());
    return view;
  }
  view.shared = shared_disk(selection, view.root, *view.drive);
  if (std::string others = others_may_write({view.root}); !others.empty()) view.notes.push_back(others);
  if (view.drive->read_only) {
    view.trouble = shown + "is mounted read-only; mount it writable, or name another folder";
  } else if (faccessat(AT_FDCWD, view.root.c_str(), W_OK | X_OK, AT_EACCESS) != 0) {
    view.trouble = shown + "cannot be written by this user: " + system_reason(errno);
  } else if (view.drive->memory) {
    view.trouble = shown + "lies in memory only: everything in it is gone when the machine is switched off";
  }
  return view;
}

}  // namespace kestrum
