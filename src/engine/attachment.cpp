#include "engine/attachment.hpp"

#include <unistd.h>

#include "base/shell_command.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr std::chrono::seconds limit = std::chrono::minutes(2);

bool is_mounted(const DestinationAddress& address) {
  try {
    locate_destination(address);
    return true;
  } catch (const Error&) {
    return false;
  }
}

std::map<std::string, std::string> variables(const Job& job) {
  return {{"KESTRUM_JOB", job.name}, {"KESTRUM_DESTINATION", job.destinations.at(0)}};
}

}  // namespace

Attachment::Attachment(const Job& job, const RunContext& context) : job_(job), context_(context) {
  if (!job.attach.empty()) {
    attached_ = true;
    CommandResult result;
    try {
      result = run_shell(job.attach, variables(job), limit, context.control);
    } catch (const Error& error) {
      result.exit_code = 1;
      result.output = error.what();
    } catch (...) {
      detach();
      throw;
    }
    if (!result.good()) {
      const std::string why = result.reason(limit);
      // What it has begun is to be put in order.
      detach();
      throw Error(ErrorKind::no_destination, "the destination could not be attached: " + why,
                  "try it by hand, without anything to read: " + job.attach);
    }
  }
  try {
    if (job.mount_for_run) mount_drives();
  } catch (...) {
    detach();
    throw;
  }
}

// Those that are plugged in and not mounted yet; the others are told by who looks for them.
void Attachment::mount_drives() {
  if (geteuid() != 0) return;
  for (const std::string& named : job_.destinations) {
    const DestinationAddress address = DestinationAddress::parse(named);
    if (!address.names_drive() || is_mounted(address)) continue;
    const std::optional<std::string> device = device_of(address);
    if (!device) continue;
    const std::string folder = context_.home.mount_folder() + "/" + to_hex(as_bytes(address.drive));
    context_.home.make_folder_of(folder);
    mounts_.push_back(std::make_unique<PrivateMount>(*device, folder));
    context_.observer.note(printable(named) + " is mounted for this run, from " + *device);
  }
}

std::vector<Problem> Attachment::detach() {
  std::vector<Problem> problems;
  // The last one first: each goes back to what was seen before it.
  while (!mounts_.empty()) {
    try {
      mounts_.back()->end();
    } catch (const Error& error) {
      problems.push_back({job_.destinations.at(0), "unmount", error.what()});
    }
    mounts_.pop_back();
  }
  if (!attached_) return problems;
  attached_ = false;
  if (job_.detach.empty()) return problems;
  // Also after a stop: it is not to be broken off by that.
  RunControl own;
  try {
    const CommandResult result = run_shell(job_.detach, variables(job_), limit, own);
    if (!result.good())
      problems.push_back(
          {job_.destinations.at(0), "detach", "'" + job_.detach + "': " + result.reason(limit)});
  } catch (const Error& error) {
    problems.push_back({job_.destinations.at(0), "detach", error.what()});
  }
  return problems;
}

Attachment::~Attachment() {
  detach();
}

bool attaches_itself(const Job& job, std::string& drive) {
  if (!job.attach.empty()) return true;
  if (!job.mount_for_run || geteuid() != 0) return false;
  for (const std::string& named : job.destinations) {
    try {
      const DestinationAddress address = DestinationAddress::parse(named);
      if (address.names_drive() && (is_mounted(address) || device_of(address))) {
        drive.clear();
        return true;
      }
    } catch (const Error&) {
      // Several of that name: not one that could be mounted.
    }
    if (drive.empty()) drive = named;
  }
  return true;
}

}  // namespace kestrum
