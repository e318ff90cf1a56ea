#include "store/private_mount.hpp"

#include <fcntl.h>
#include <libmount/libmount.h>
#include <sched.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <fstream>
#include <memory>

#include "base/error.hpp"
#include "base/text.hpp"
#include "store/filesystem_names.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

Error not_mounted(const std::string& device, const std::string& why) {
  return Error(ErrorKind::no_destination, "the drive " + printable(device) + " cannot be mounted: " + why,
               "see that it is sound, or mount it by hand and set [where] mount to \"as it is\"");
}

// This thread sees mounts of its own from now on; those of others still come in.
FileHandle leave_the_others(const std::string& device) {
  FileHandle before(open("/proc/thread-self/ns/mnt", O_RDONLY | O_CLOEXEC));
  if (!before || unshare(CLONE_NEWNS) != 0) throw not_mounted(device, system_reason(errno));
  if (mount("none", "/", nullptr, MS_REC | MS_SLAVE, nullptr) != 0) {
    const int code = errno;
    setns(before.get(), CLONE_NEWNS);
    throw not_mounted(device, system_reason(code));
  }
  return before;
}

}  // namespace

std::optional<std::string> device_of(const DestinationAddress& address) {
  std::vector<std::string> found;
  std::error_code code;
  for (const fs::directory_entry& entry : fs::directory_iterator("/sys/class/block", code)) {
    std::uint64_t size = 0;
    std::ifstream(entry.path() / "size") >> size;
    if (size == 0) continue;
    const std::string node = "/dev/" + entry.path().filename().string();
    const FilesystemNames names = names_on_device(node);
    const std::string& name = address.by == DestinationAddress::By::label ? names.label : names.uuid;
    if (!name.empty() && name == address.drive) found.push_back(node);
  }
  if (found.size() > 1)
    throw Error(
        ErrorKind::no_destination,
        "several drives that are plugged in are named " + printable(address.drive) + ": " + join(found, ", "),
        "unplug one, or name the drive by its UUID");
  return found.empty() ? std::nullopt : std::optional(found[0]);
}

PrivateMount::PrivateMount(const std::string& device, const std::string& folder) : folder_(folder) {
  std::error_code code;
  fs::create_directories(folder_, code);
  if (code) throw not_mounted(device, "its folder " + printable(folder) + ": " + code.message());
  before_ = leave_the_others(device);
  std::unique_ptr<libmnt_context, decltype(&mnt_free_context)> context(mnt_new_context(), mnt_free_context);
  mnt_context_set_source(context.get(), device.c_str());
  mnt_context_set_target(context.get(), folder_.c_str());
  // Sets are data: nothing on it is to be run, and no device of it opened.
  mnt_context_set_options(context.get(), "nosuid,nodev,noexec");
  mnt_context_disable_mtab(context.get(), 1);
  const int result = mnt_context_mount(context.get());
  if (result == 0 && mnt_context_get_status(context.get()) == 1) return;
  char words[512] = {};
  mnt_context_get_excode(context.get(), result, words, sizeof words);
  setns(before_.get(), CLONE_NEWNS);
  throw not_mounted(device, words[0] != '\0' ? printable(words) : "it does not say why");
}

void PrivateMount::leave() {
  if (!before_) return;
  // It would take the working folder to the root.
  const FileHandle here(open(".", O_PATH | O_DIRECTORY | O_CLOEXEC));
  setns(before_.get(), CLONE_NEWNS);
  if (here && fchdir(here.get()) != 0) {
    // It is at the root then.
  }
  before_ = FileHandle();
}

void PrivateMount::end() {
  if (!before_) return;
  const int failed = umount2(folder_.c_str(), UMOUNT_NOFOLLOW) == 0 ? 0 : errno;
  leave();
  if (failed != 0)
    throw Error(ErrorKind::failed, "the drive could not be unmounted: " + system_reason(failed),
                "it is gone once nothing uses it any more");
  rmdir(folder_.c_str());
}

PrivateMount::~PrivateMount() {
  try {
    end();
  } catch (const Error&) {
    // The mount goes with the process.
  }
}

}  // namespace kestrum
