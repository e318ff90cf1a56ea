#include "engine/own_folder.hpp"

#include "base/text.hpp"
#include "engine/session.hpp"

namespace kestrum {
namespace {

// What this home knows of having made.
class Known {
 public:
  // `state`: must outlive it.
  Known(const LookSession& session, const std::optional<JobState>& state) : session_(session) {
    const std::optional<DriveIdentity>& drive = session.destination().drive;
    if (state && drive) drive_ = state->drive(drive->id);
    if (drive_ == nullptr) return;
    if (std::optional<SetFolder> newest = parse_set_folder("", drive_->newest_folder))
      up_to_ = newest->sequence;
    else if (drive_->newest_core)
      up_to_ = drive_->highest;
    up_to_ = std::max(up_to_, drive_->accepted);
  }

  bool drive() const { return drive_ != nullptr; }

  bool made(const FoundSet& set) {
    if (set.folder.sequence <= up_to_ || (drive_ != nullptr && drive_->begun == set.facts().set)) return true;
    const JobIdentity::Unremembered& left = session_.identity().unremembered;
    const bool home_could_not = session_.home() != nullptr && left.home == session_.home()->mark();
    return (home_could_not && set.folder.sequence <= left.point) ||
           session_.history().knows_set(set.facts().set);
  }

 private:
  const LookSession& session_;
  const DriveState* drive_ = nullptr;
  Sequence up_to_ = 0;
};

NotOwn namesake(const Destination& place) {
  const JobIdentity& there = place.namesake->identity;
  return {NotOwn::Why::namesake, place.namesake->folder, there.machine, there.name};
}

bool on_another_machine(const LookSession& session) {
  const JobState& state = *session.state();
  const Id none{};
  const Id here = session.home() != nullptr ? session.home()->machine() : none;
  return !state.drives.empty() && here != none && state.machine != none && here != state.machine;
}

std::optional<NotOwn> newer_points(const LookSession& session, Known& known, NotOwn found) {
  found.why = NotOwn::Why::newer_points;
  for (const FoundSet& set : session.sets()) {
    if (!set.sealed() || known.made(set)) continue;
    if (found.first == 0) found.first = set.folder.sequence;
    found.last = set.folder.sequence;
  }
  return found.first != 0 ? std::optional(found) : std::nullopt;
}

std::optional<JobState> memory_now(const LookSession& session) {
  try {
    if (session.home() != nullptr) return session.home()->load_state(session.job()->name);
  } catch (const Error&) {
    // What was read of it counts.
  }
  return session.state();
}

std::string what_is_there(const Job& job, const Destination& place, const NotOwn& found) {
  const std::string where = place.store->describe(found.folder);
  switch (found.why) {
    case NotOwn::Why::namesake:
      return "another job is in " + where + ": it has the same name, '" + printable(found.name) +
             "', and its machine is called " + printable(found.machine) +
             " too, but this home has not made it";
    case NotOwn::Why::not_remembered:
      return "this home remembers neither making nor taking over what is in " + where + ", the sets of '" +
             printable(found.name) + "' of " + printable(found.machine);
    case NotOwn::Why::other_machine:
      return "what this home remembers of the job '" + printable(job.name) +
             "' is of another machine: it was copied from there, or this one was set up anew; " + where +
             " may still be in use there";
    case NotOwn::Why::newer_points:
      return (found.first == found.last ? "point " + std::to_string(found.first) + " in " + where + " was"
                                        : "points " + std::to_string(found.first) + " to " +
                                              std::to_string(found.last) + " in " + where + " were") +
             " not made by this home: a copy of it goes on there, or it was itself set back to an older "
             "state";
  }
  return {};
}

}  // namespace

std::optional<NotOwn> not_own(const LookSession& session, bool with_points) {
  if (!session.job()) return std::nullopt;
  const Destination& place = session.destination();
  if (!place.identity) return place.namesake ? std::optional(namesake(place)) : std::nullopt;
  NotOwn found{NotOwn::Why::not_remembered, place.folder, place.identity->machine, place.identity->name};
  Known known(session, session.state());
  if (!session.state() || !known.drive()) {
    bool any = false;
    for (const FoundSet& set : session.sets()) any = any || (set.sealed() && known.made(set));
    // Its first run may have begun since the memory was read.
    const std::optional<JobState> now = any ? std::nullopt : memory_now(session);
    if (!any && !Known(session, now).drive()) return found;
  }
  if (session.state() && on_another_machine(session)) {
    found.why = NotOwn::Why::other_machine;
    return found;
  }
  if (!with_points || !newer_points(session, known, found)) return std::nullopt;
  // A run of this home may have made them since its memory was read: it writes down what it begins.
  const std::optional<JobState> now = memory_now(session);
  Known known_now(session, now);
  return newer_points(session, known_now, found);
}

static Error error_of(const Job& the_job, const Destination& place, const NotOwn& found) {
  const std::string job = shell_word(printable(the_job.name));
  const std::string other_name = found.why == NotOwn::Why::namesake
                                     ? "kestrum job rename " + job + " NAME"
                                     : "kestrum job copy " + job + " NAME; kestrum job remove " + job;
  std::string folder = place.root;
  if (!found.folder.empty()) folder += "/" + found.folder;
  return Error(ErrorKind::wrong_drive, what_is_there(the_job, place, found),
               "to take it over, if nobody else writes there: kestrum job rebuild " + job + " --from " +
                   shell_word(printable(folder)) +
                   " --take-over\n  to save under another name: " + other_name +
                   "\n  to begin in a folder of its own beside it: kestrum run " + job + " --beside");
}

Error not_own_error(const LookSession& session, const NotOwn& why) {
  return error_of(*session.job(), session.destination(), why);
}

Error namesake_error(const Job& job, const Destination& found) {
  return error_of(job, found, namesake(found));
}

}  // namespace kestrum
