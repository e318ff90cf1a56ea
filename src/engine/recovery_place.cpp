#include "engine/recovery_place.hpp"

#include <sys/stat.h>

#include <filesystem>

#include "archive/job_folder.hpp"
#include "base/error.hpp"
#include "base/text.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

bool has_drive_file(const fs::path& folder) {
  std::error_code code;
  return fs::exists(folder / drive_name, code);
}

// In the folder, in one above it on the same file system, or just below the top of that.
bool is_marked(fs::path folder, const DriveFacts& drive) {
  for (; !folder.empty(); folder = folder.parent_path()) {
    if (has_drive_file(folder)) return true;
    if (folder == drive.mount || folder == folder.root_path()) break;
  }
  std::error_code code;
  for (fs::directory_iterator at(drive.mount, code), end; !code && at != end; at.increment(code)) {
    if (has_drive_file(at->path())) return true;
  }
  return false;
}

// A job of this machine writes to that drive.
bool is_destination(const Home& home, const DriveFacts& drive) {
  for (const std::string& name : home.job_names()) {
    try {
      for (const std::string& named : home.load_job(name).destinations) {
        struct stat status {};
        const std::string root = locate_destination(DestinationAddress::parse(named));
        if (stat(root.c_str(), &status) == 0 && status.st_dev == drive.device) return true;
      }
    } catch (const Error&) {
      // Its file does not read, or the drive is not there: then it is not this one.
    }
  }
  return false;
}

}  // namespace

std::string against_secret_at(const std::string& path, const Home& home) {
  std::error_code code;
  const fs::path folder = fs::canonical(fs::absolute(path).parent_path(), code);
  if (code)
    throw Error(ErrorKind::usage, "the folder of " + printable(path) + " is not there: " + code.message(),
                "name a folder that is there");
  const DriveFacts drive = drive_facts(folder.string());
  if (drive.memory) return "lies in memory only: it is gone when the machine is switched off";
  // Before the machine's own disk: the worse of the two.
  if (is_marked(folder, drive) || is_destination(home, drive))
    return "lies on a destination: whoever has the drive would have its key";
  if (share_disk(drive, drive_facts("/")))
    return "lies on the disk of this machine: what takes the machine takes the key too, and whoever has the "
           "machine has both";
  return {};
}

}  // namespace kestrum
