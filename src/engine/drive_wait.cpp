#include "engine/drive_wait.hpp"

#include <fcntl.h>
#include <poll.h>

#include <algorithm>

#include "base/file_handle.hpp"

namespace kestrum {
namespace {

std::vector<std::string> drives_there() {
  std::vector<std::string> names;
  for (const DriveFacts& drive : possible_drives()) names.push_back(drive.text() + " at " + drive.mount);
  return names;
}

}  // namespace

bool wait_for_drive(const Job& job, const RunContext& context, std::optional<std::chrono::seconds> most,
                    DriveWaiter& waiter) {
  Reach reach = reach_of(job, context);
  if (!reach.is_away()) return true;
  const FileHandle mounts(open("/proc/self/mountinfo", O_RDONLY | O_CLOEXEC));
  std::vector<std::string> known = drives_there();
  waiter.waits(reach);
  const auto begun = std::chrono::steady_clock::now();
  // A path may come into being without a mount, and a signal may come at any moment.
  constexpr int slice_ms = 250;
  while (true) {
    context.control.checkpoint();
    if (most && std::chrono::steady_clock::now() - begun >= *most) return false;
    pollfd place{mounts.get(), POLLPRI, 0};
    poll(&place, 1, slice_ms);
    reach = reach_of(job, context);
    if (!reach.is_away()) return true;
    std::vector<std::string> now = drives_there();
    for (const std::string& one : now) {
      if (std::find(known.begin(), known.end(), one) == known.end()) waiter.other_came(one);
    }
    known = std::move(now);
  }
}

}  // namespace kestrum
