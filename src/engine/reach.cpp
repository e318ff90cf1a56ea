#include "engine/reach.hpp"

#include "base/text.hpp"
#include "engine/attachment.hpp"
#include "engine/destination.hpp"

namespace kestrum {
namespace {

// Of a job that brings its destination about itself.
Reach attached_reach(const Job& job) {
  Reach reach;
  if (!attaches_itself(job, reach.drive)) return reach;
  if (reach.drive.empty()) {
    reach.into = job.destinations;
  } else {
    reach.trouble =
        Error(ErrorKind::no_destination, "the drive " + printable(reach.drive) + " is not plugged in");
  }
  return reach;
}

}  // namespace

bool Reach::is_away() const {
  if (!trouble) return false;
  const ErrorKind kind = trouble->kind();
  return kind == ErrorKind::no_destination || kind == ErrorKind::not_reachable ||
         kind == ErrorKind::wrong_drive;
}

Reach reach_of(const Job& job, const RunContext& context) {
  if (Reach attached = attached_reach(job); attached.trouble || !attached.into.empty()) return attached;
  Reach reach;
  std::optional<JobState> state;
  try {
    state = context.home.load_state(job.name);
  } catch (const Error&) {
    // The run tells of it.
  }
  std::vector<std::string> use = job.destinations;
  try {
    use = choose_destinations(job, state, context.machine, context.open_store, context.meant).use;
  } catch (const Error&) {
    // Each tells for itself.
  }
  for (const std::string& named : use) {
    try {
      const Destination found =
          find_destination(job, named, state, context.machine, context.open_store, context.meant);
      if (found.facts.disks.empty()) reach.into.push_back(std::to_string(found.facts.device));
      reach.into.insert(reach.into.end(), found.facts.disks.begin(), found.facts.disks.end());
    } catch (const Error& error) {
      if (!reach.trouble) {
        reach.trouble = error;
        reach.drive = named;
      }
    }
  }
  if (!reach.into.empty()) reach.trouble.reset();
  return reach;
}

}  // namespace kestrum
