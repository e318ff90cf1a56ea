#include "engine/status.hpp"

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/phrase.hpp"

namespace kestrum {
namespace {

// What the points of one drive tell.
void look_at_points(const PointsResult& points, JobStatus& status, DriveStatus& drive) {
  JobTrouble damaged{.kind = TroubleKind::damaged}, incomplete{.kind = TroubleKind::incomplete};
  for (const PointInfo& point : points.points) {
    if (point.health == Health::damaged) ++damaged.count;
    if (point.sealed && point.health == Health::incomplete) ++incomplete.count;
    if (point.sealed && point.good()) drive.newest_good = point.facts.started;
  }
  if (damaged.count > 0) status.troubles.push_back(damaged);
  if (incomplete.count > 0) status.troubles.push_back(incomplete);
  drive.space = points.space;
}

void look_at_drive(LookSession& session, JobStatus& status, DriveStatus& drive, History& history) {
  look_at_points(list_points(session, &history), status, drive);
  if (std::string gone = session.older_state(); !gone.empty())
    status.troubles.push_back({.kind = TroubleKind::gone, .text = gone});
  for (const std::string& line : left_out_lines(session.sets()))
    status.troubles.push_back({.kind = TroubleKind::place, .text = line});
  for (const std::string& finding : session.findings())
    status.troubles.push_back({.kind = TroubleKind::place, .text = finding});
}

bool made_good_point(const RunEntry& run) {
  return run.sequence && run.exit_code != exit_code_of(ErrorKind::damage);
}

// A drive that is not there, or that does not tell, by what the history knows.
void from_history(const std::string& job, DriveStatus& drive, History& history) {
  std::optional<RunEntry> newest = history.newest_point(job, drive.named);
  if (newest && made_good_point(*newest)) drive.newest_good = newest->started;
}

DriveStatus drive_status(const Job& job, const std::string& named, JobStatus& status, History& history,
                         const RunContext& context) {
  DriveStatus drive{.named = named, .root = {}, .newest_good = {}, .space = {}};
  try {
    OpenedPlace place = open_place(DestinationAddress::parse(named), context.open_store);
    drive.root = place.root;
    drive.space = place.store->space();
    SubjectOptions options;
    options.subject = job.name;
    options.destination = named;
    options.open_store = context.open_store;
    LookSession session = LookSession::open(&context.home, options);
    look_at_drive(session, status, drive, history);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::no_destination && error.kind() != ErrorKind::not_reachable)
      status.troubles.push_back({.kind = TroubleKind::place, .text = error.what()});
    from_history(job.name, drive, history);
    if (drive.root.empty() && job.use == UseOf::all && job.destinations.size() > 1)
      status.troubles.push_back({.kind = TroubleKind::drive_away, .text = named});
  }
  return drive;
}

// What the last run and the job's own times say.
void look_at_runs(const Job& job, JobStatus& status, Instant now) {
  auto trouble = [&](JobTrouble one) { status.troubles.push_back(std::move(one)); };
  if (job.warn_after) {
    Instant since = before(now, *job.warn_after);
    if (!status.newest_good || *status.newest_good < since)
      trouble({.kind = TroubleKind::overdue, .text = job.warn_after->text()});
  }
  if (!status.last) return trouble({.kind = TroubleKind::never_run});
  const RunEntry& last = *status.last;
  if (!last.ended) {
    trouble({.kind = TroubleKind::cut_off});
  } else if (last.exit_code > exit_problems) {
    trouble({.kind = TroubleKind::failed, .text = last.message});
  } else if (last.exit_code == exit_problems &&
             last.problems > static_cast<std::int64_t>(last.broken.size())) {
    trouble({.kind = TroubleKind::problems, .count = static_cast<std::uint64_t>(last.problems)});
  }
  if (status.disabled) return;
  std::vector<Occurrence> due = next_times(job.runs, last.started, 1);
  if (!due.empty() && due[0].when <= now) trouble({.kind = TroubleKind::missed, .when = due[0].when});
}

// Of each drive by the run that was the last to make a point there, and of the last run of all.
void look_at_broken_rules(JobStatus& status, History& history) {
  std::vector<RunEntry> runs;
  for (const DriveStatus& drive : status.drives) {
    if (std::optional<RunEntry> newest = history.newest_point(status.job, drive.named))
      runs.push_back(*newest);
  }
  auto is_last = [&](const RunEntry& run) { return run.id == status.last->id; };
  if (status.last && std::none_of(runs.begin(), runs.end(), is_last)) runs.push_back(*status.last);
  for (const RunEntry& run : runs) {
    for (const BrokenRule& broken : run.broken)
      status.troubles.push_back({.kind = TroubleKind::broken, .broken = broken});
  }
}

JobStatus status_of(const std::string& name, History& history, const RunContext& context) {
  JobStatus status;
  status.job = name;
  std::vector<RunEntry> runs = history.runs(name, 1);
  if (!runs.empty()) status.last = runs[0];
  Job job;
  try {
    job = context.home.load_job(name);
  } catch (const Error& error) {
    status.troubles.push_back({.kind = TroubleKind::job_file, .text = error.what()});
    return status;
  }
  status.disabled = !job.enabled;
  for (const std::string& named : job.destinations) {
    status.drives.push_back(drive_status(job, named, status, history, context));
    const std::optional<Instant>& newest = status.drives.back().newest_good;
    if (newest && (!status.newest_good || *newest > *status.newest_good)) status.newest_good = newest;
  }
  look_at_runs(job, status, context.clock.now());
  look_at_broken_rules(status, history);
  return status;
}

// Troubles worst first; jobs without a good point first, then by the age of the newest.
void sort_status(std::vector<JobStatus>& all) {
  for (JobStatus& one : all)
    std::stable_sort(one.troubles.begin(), one.troubles.end(),
                     [](const JobTrouble& a, const JobTrouble& b) { return a.kind < b.kind; });
  std::stable_sort(all.begin(), all.end(), [](const JobStatus& a, const JobStatus& b) {
    if (a.newest_good.has_value() != b.newest_good.has_value()) return !a.newest_good;
    return a.newest_good && *a.newest_good < *b.newest_good;
  });
}

}  // namespace

std::vector<JobStatus> job_status(std::vector<std::string> names, const RunContext& context) {
  for (const std::string& name : names) {
    if (!context.home.has_job(name)) context.home.load_job(name);
  }
  if (names.empty()) names = context.home.job_names();
  std::vector<JobStatus> all;
  if (names.empty()) return all;
  History history = History::open(context);
  for (const std::string& name : names) all.push_back(status_of(name, history, context));
  sort_status(all);
  return all;
}

std::vector<JobStatus> place_status(const DestinationAddress& address, const OpenStore& open_store) {
  OpenedPlace place = open_place(address, open_store);
  if (place.drive_trouble) throw *place.drive_trouble;
  std::vector<JobPlace> jobs = list_jobs_at(*place.store);
  if (!place.drive && jobs.empty())
    throw Error(
        ErrorKind::no_destination,
        printable(place.root) + " is no destination: there is no drive.json in it, and no archive set",
        "name a job, or the folder that holds drive.json");
  std::vector<JobStatus> all;
  for (const JobPlace& found : jobs) {
    JobStatus status;
    status.machine = found.identity.machine;
    status.job = found.identity.name;
    DriveStatus drive{.named = place.root, .root = place.root, .newest_good = {}, .space = {}};
    PointsResult points;
    points.points =
        judge_points(*place.store, SetList(*place.store, found.folder, found.identity.job), nullptr);
    points.space = place.store->space();
    look_at_points(points, status, drive);
    if (!found.finding.empty())
      status.troubles.push_back({.kind = TroubleKind::place, .text = found.finding});
    status.newest_good = drive.newest_good;
    if (points.points.empty()) status.troubles.push_back({.kind = TroubleKind::no_point});
    status.drives.push_back(std::move(drive));
    all.push_back(std::move(status));
  }
  sort_status(all);
  return all;
}

}  // namespace kestrum
