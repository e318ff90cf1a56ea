#include "engine/status.hpp"

#include <unistd.h>

#include <algorithm>
#include <tuple>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "engine/agent_seat.hpp"
#include "engine/gone_points.hpp"
#include "engine/job_check.hpp"
#include "engine/job_in_force.hpp"
#include "engine/leftover_use.hpp"
#include "engine/run_refusal.hpp"
#include "engine/way_proof.hpp"
#include "engine/ways_in.hpp"

namespace kestrum {
namespace {

// What the points of one drive tell.
void look_at_points(PointsResult points, JobStatus& status, DriveStatus& drive) {
  JobTrouble damaged{.kind = TroubleKind::damaged, .drive = drive.named};
  JobTrouble incomplete{.kind = TroubleKind::incomplete, .drive = drive.named};
  JobTrouble suspect{.kind = TroubleKind::suspect, .drive = drive.named};
  for (const PointInfo& point : points.points) {
    if (point.health == Health::damaged) ++damaged.count;
    if (point.sealed && point.health == Health::incomplete) ++incomplete.count;
    if (point.sealed && point.facts.guard == GuardMark::suspect) ++suspect.count;
    if (point.sealed && point.good()) drive.newest_good = point.facts.started;
  }
  suspect.when = drive.newest_good.value_or(Instant{});
  if (suspect.count > 0) status.troubles.push_back(suspect);
  if (damaged.count > 0) status.troubles.push_back(damaged);
  if (incomplete.count > 0) status.troubles.push_back(incomplete);
  drive.space = points.space;
  drive.left = points.left;
  drive.points = std::move(points.points);
}

void look_at_drive(LookSession& session, JobStatus& status, DriveStatus& drive, History& history) {
  look_at_points(list_points(session, &history), status, drive);
  if (const std::optional<Error> refused = run_refusal(session))
    status.troubles.push_back({.kind = not_own(session) ? TroubleKind::refused : TroubleKind::gone,
                               .text = refused->what(),
                               .advice = refused->hint(),
                               .drive = drive.named});
  for (const KnownPoint& point : gone_points(session))
    status.troubles.push_back({.kind = TroubleKind::gone,
                               .text = gone_text(point),
                               .advice = gone_advice(*session.job(), point),
                               .drive = drive.named});
  if (const std::string old = old_way(session).text(); !old.empty())
    status.troubles.push_back({.kind = TroubleKind::place,
                               .text = old,
                               .advice = old_way_advice(status.job),
                               .drive = drive.named});
  for (const std::string& line : left_out_lines(session.sets()))
    status.troubles.push_back({.kind = TroubleKind::place, .text = line, .drive = drive.named});
  for (const std::string& finding : session.findings())
    status.troubles.push_back({.kind = TroubleKind::place, .text = finding, .drive = drive.named});
}

bool made_good_point(const RunEntry& run, History& history) {
  if (!run.sequence || run.exit_code == exit_code_of(ErrorKind::damage)) return false;
  if (run.result == RunResult::suspect) return false;
  if (!run.set) return true;
  const SetChecks checks = history.checks(*run.set);
  return !(checks.last && !checks.last->good) && !(checks.deep && checks.deep->affected.value_or(0) > 0);
}

// A drive that is not there, or that does not tell, by what the history knows.
void from_history(const std::string& job, DriveStatus& drive, History& history) {
  constexpr int most = 1000;
  for (const RunEntry& run : history.runs(job, most)) {
    if (run.destination != drive.named || !made_good_point(run, history)) continue;
    drive.newest_good = run.started;
    return;
  }
}

// `state`: what home remembers of the job.
DriveStatus drive_status(const Job& job, const std::string& named, const std::optional<JobState>& state,
                         JobStatus& status, History& history, const RunContext& context) {
  DriveStatus drive{.named = named, .root = {}, .newest_good = {}, .space = {}};
  const bool each = job.use == UseOf::all && job.destinations.size() > 1;
  try {
    // As a run would: an empty mount point is not the job's drive, nor is another one.
    Destination found = find_destination(job, named, state, context.machine, context.open_store);
    drive.root = found.root;
    drive.space = found.store->space();
    if (found.namesake) throw namesake_error(job, found);
    if (!found.identity) return drive;  // nothing was ever written there
    SubjectOptions options;
    options.subject = job.name;
    options.destination = named;
    options.open_store = context.open_store;
    LookSession session = LookSession::open(&context.home, options);
    look_at_drive(session, status, drive, history);
  } catch (const Error& error) {
    const bool refused = error.kind() == ErrorKind::wrong_drive;
    if (error.kind() != ErrorKind::no_destination && error.kind() != ErrorKind::not_reachable)
      status.troubles.push_back({.kind = refused ? TroubleKind::refused : TroubleKind::place,
                                 .text = error.what(),
                                 .advice = error.hint(),
                                 .drive = named});
    from_history(job.name, drive, history);
    if (const DriveState* known = state ? state->at(named) : nullptr) drive.left = left_point(*known);
    if (drive.root.empty() && each)
      status.troubles.push_back({.kind = TroubleKind::drive_away, .drive = named});
  }
  if (drive.left && !status.times.going)
    status.troubles.push_back(
        {.kind = TroubleKind::unfinished, .text = left_text(*drive.left), .drive = named});
  if (!drive.root.empty() && each && !drive.newest_good)
    status.troubles.push_back({.kind = TroubleKind::drive_bare, .drive = named});
  return drive;
}

// Nobody has good points for longer than the job allows: where a set goes to each drive, none of them may.
void look_at_age(const Job& job, JobStatus& status, Instant now) {
  if (!job.warn_after) return;
  const Instant since = before(now, *job.warn_after);
  auto too_old = [&](const std::optional<Instant>& newest) { return !newest || *newest < since; };
  if (too_old(status.newest_good)) {
    status.troubles.push_back({.kind = TroubleKind::overdue, .text = job.warn_after->text()});
  } else if (job.use == UseOf::all) {
    for (const DriveStatus& drive : status.drives) {
      if (too_old(drive.newest_good))
        status.troubles.push_back(
            {.kind = TroubleKind::overdue, .text = job.warn_after->text(), .drive = drive.named});
    }
  }
}

// Clocks of two machines, or before and after they were set right, may differ by so much.
constexpr std::int64_t clock_tolerance_seconds = 300;

// A clock that went back makes everything look fresh.
void look_at_clock(JobStatus& status, Instant now) {
  std::optional<Instant> latest = status.newest_good;
  if (status.last && (!latest || *latest < status.last->started)) latest = status.last->started;
  if (latest && latest->seconds > now.seconds + clock_tolerance_seconds)
    status.troubles.push_back({.kind = TroubleKind::clock, .when = *latest});
}

// What the last run and the job's own times say.
void look_at_runs(JobStatus& status) {
  auto trouble = [&](JobTrouble one) { status.troubles.push_back(std::move(one)); };
  const auto has = [&](TroubleKind kind) {
    return std::any_of(status.troubles.begin(), status.troubles.end(),
                       [kind](const JobTrouble& one) { return one.kind == kind; });
  };
  if (!status.last) return trouble({.kind = TroubleKind::never_run});
  const RunEntry& last = *status.last;
  if (!last.ended && !last.cut_off()) {
    if (!status.times.going) trouble({.kind = TroubleKind::cut_off});
  } else if (last.result == RunResult::suspect && has(TroubleKind::suspect)) {
    return;  // the point tells of it
  } else if (last.exit_code == exit_code_of(ErrorKind::wrong_drive) && has(TroubleKind::refused)) {
    return;  // the next one will be, and it is said why
  } else if (last.exit_code > exit_problems) {
    trouble({.kind = TroubleKind::failed, .text = last.message});
  } else if (last.exit_code == exit_problems &&
             last.problems > static_cast<std::int64_t>(last.broken.size())) {
    trouble({.kind = TroubleKind::problems, .count = static_cast<std::uint64_t>(last.problems)});
  }
}

// What the job's times say. `watched`: an agent is there.
void look_at_times(const Job& job, JobStatus& status, bool watched, Instant now) {
  auto trouble = [&](JobTrouble one) { status.troubles.push_back(std::move(one)); };
  const DueLook& times = status.times;
  if (times.missed) trouble({.kind = TroubleKind::missed, .when = *times.missed});
  if (times.wait && times.wait->reason == DueReason::drive)
    trouble({.kind = TroubleKind::waits, .when = times.wait->since, .drive = times.wait->drive});
  const bool only_waits = times.wait && times.wait->reason != DueReason::none;
  if (times.wait && !only_waits && !watched)
    trouble({.kind = TroubleKind::missed, .when = times.wait->since});
  if (!job.warn_after || !status.newest_good || status.disabled) return;
  // Before it is exceeded, unless the next run comes in time.
  const Instant end = after(*status.newest_good, *job.warn_after);
  if (now >= end || now < warn_from(*status.newest_good, *job.warn_after)) return;
  const bool comes = watched && times.next && *times.next < end && !times.wait && !times.pause;
  if (!comes) trouble({.kind = TroubleKind::soon, .text = job.warn_after->text(), .when = end});
}

void look_at_drills(JobStatus& status) {
  const std::optional<JobCheck>& last = status.drills.last;
  if (last && last->exit_code != exit_done && last->settles())
    status.troubles.push_back({.kind = TroubleKind::drill, .text = check_text(*last), .when = last->started});
}

// What a check found is told by the points.
void look_at_checks(JobStatus& status) {
  const std::optional<JobCheck>& last = status.checks.last;
  if (!last || last->exit_code == exit_done || last->exit_code == exit_code_of(ErrorKind::damage)) return;
  if (last->settles()) status.troubles.push_back({.kind = TroubleKind::unchecked, .text = check_text(*last)});
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
      status.troubles.push_back({.kind = TroubleKind::broken, .broken = broken, .drive = run.destination});
  }
}

void look_at_page(JobStatus& status, const Home& home) {
  const std::string file = home.page_trouble_file(status.job);
  if (access(file.c_str(), F_OK) != 0) return;
  try {
    constexpr std::size_t most = 4096;
    const Bytes text = read_small_file(file, most);
    status.troubles.push_back({.kind = TroubleKind::page, .text = std::string(as_text(text))});
  } catch (const Error&) {
    // It went this very moment.
  }
}

// What is the same for all jobs.
struct StatusAround {
  std::map<std::string, DueLook> times;
  std::map<std::string, CheckLook> checks, drills;
  bool watched = false;  // an agent is there
};

std::optional<JobState> remembered(const std::string& name, JobStatus& status, const Home& home) {
  try {
    return home.load_state(name);
  } catch (const Error& error) {
    status.troubles.push_back({.kind = TroubleKind::place, .text = error.what()});
    return std::nullopt;
  }
}

JobStatus status_of(const std::string& name, const StatusAround& around, History& history,
                    const RunContext& context) {
  JobStatus status;
  status.job = name;
  if (auto found = around.times.find(name); found != around.times.end()) status.times = found->second;
  if (auto found = around.checks.find(name); found != around.checks.end()) status.checks = found->second;
  if (auto found = around.drills.find(name); found != around.drills.end()) status.drills = found->second;
  std::vector<RunEntry> runs = history.runs(name, 1);
  if (!runs.empty()) status.last = runs[0];
  std::optional<Error> wrong;
  const std::optional<JobInForce> in_force = job_in_force(context.home, name, &wrong);
  if (wrong)
    status.troubles.push_back(
        {.kind = TroubleKind::job_file, .text = wrong->what(), .count = in_force ? 1u : 0u});
  if (!in_force) return status;
  const Job& job = in_force->job;
  status.disabled = !job.enabled;
  status.encrypted = job.encryption != Encryption::none;
  const std::vector<WayProof> tried = load_way_proofs(context.home, name);
  const std::optional<JobState> state = remembered(name, status, context.home);
  for (const std::string& named : job.destinations) {
    status.drives.push_back(drive_status(job, named, state, status, history, context));
    if (const DriveState* known = state ? state->at(named) : nullptr)
      status.drives.back().way_tried = last_way_proof(tried, known->drive);
    const std::optional<Instant>& newest = status.drives.back().newest_good;
    if (newest && (!status.newest_good || *newest > *status.newest_good)) status.newest_good = newest;
  }
  const Instant now = context.clock.now();
  look_at_age(job, status, now);
  look_at_runs(status);
  look_at_times(job, status, around.watched, now);
  look_at_checks(status);
  look_at_drills(status);
  look_at_clock(status, now);
  look_at_broken_rules(status, history);
  look_at_page(status, context.home);
  return status;
}

// Troubles worst first; jobs without a good point first, then by the worst of their troubles, then by the age
// of the newest point.
void sort_status(std::vector<JobStatus>& all) {
  for (JobStatus& one : all) {
    std::stable_sort(one.troubles.begin(), one.troubles.end(),
                     [](const JobTrouble& a, const JobTrouble& b) { return a.kind < b.kind; });
    if (one.drives.size() > 1) continue;
    for (JobTrouble& trouble : one.troubles) trouble.drive.clear();
  }
  auto rank = [](const JobStatus& one) {
    const int worst = one.troubles.empty() ? 1000 : static_cast<int>(one.troubles[0].kind);
    return std::tuple(one.newest_good.has_value(), worst, one.newest_good.value_or(Instant()));
  };
  std::stable_sort(all.begin(), all.end(),
                   [&](const JobStatus& a, const JobStatus& b) { return rank(a) < rank(b); });
}

}  // namespace

const char* trouble_name(TroubleKind kind) {
  static constexpr const char* words[] = {
      "suspect",    "job-file",   "damaged",        "incomplete", "gone",      "refused",
      "failed",     "overdue",    "missed",         "waits",      "never-run", "no-point",
      "soon",       "unchecked",  "drill",          "clock",      "cut-off",   "unfinished",
      "drive-away", "drive-bare", "broken-promise", "place",      "problems",  "page"};
  return words[static_cast<std::size_t>(kind)];
}

std::vector<JobStatus> job_status(std::vector<std::string> names, const RunContext& context) {
  for (const std::string& name : names) {
    if (!context.home.has_job(name)) context.home.load_job(name);
  }
  if (names.empty()) names = context.home.job_names();
  std::vector<JobStatus> all;
  if (names.empty()) return all;
  History history = History::open(context);
  DueDesk desk(context, DueDesk::OnlyLook{});
  desk.read_jobs(true);
  StatusAround around{desk.look_ahead(), {}, {}, agent_here(context.home).has_value()};
  CheckDesk checks(context, CheckKind::check), drills(context, CheckKind::drill);
  checks.read_jobs(desk, true);
  drills.read_jobs(desk, true);
  for (const std::string& name : names) {
    around.checks[name] = checks.look(desk, name);
    around.drills[name] = drills.look(desk, name);
  }
  for (const std::string& name : names) all.push_back(status_of(name, around, history, context));
  sort_status(all);
  return all;
}

static JobStatus status_at(const OpenedPlace& place, const JobPlace& found, Instant now) {
  JobStatus status;
  status.machine = found.identity.machine;
  status.job = found.identity.name;
  DriveStatus drive{.named = place.root, .root = place.root, .newest_good = {}, .space = {}};
  PointsResult points;
  points.points =
      judge_points(*place.store, SetList(*place.store, found.folder, found.identity.job), nullptr);
  points.space = place.store->space();
  look_at_points(std::move(points), status, drive);
  if (!found.finding.empty()) status.troubles.push_back({.kind = TroubleKind::place, .text = found.finding});
  status.newest_good = drive.newest_good;
  if (drive.points.empty()) status.troubles.push_back({.kind = TroubleKind::no_point});
  look_at_clock(status, now);
  status.drives.push_back(std::move(drive));
  return status;
}

std::vector<JobStatus> place_status(const DestinationAddress& address, const OpenStore& open_store,
                                    Instant now) {
  OpenedPlace place = open_place(address, open_store);
  if (!place.drive && !place.drive_trouble) {
    const std::string below = destination_in(place.root);
    if (below != place.root) place = open_place({DestinationAddress::By::path, {}, below}, open_store);
  }
  if (place.drive_trouble) throw *place.drive_trouble;
  std::vector<JobPlace> jobs = list_jobs_at(*place.store);
  if (!place.drive && jobs.empty())
    throw Error(
        ErrorKind::no_destination,
        printable(place.root) + " is no destination: there is no drive.json in it, and no archive set",
        "name a job, or the folder that holds drive.json");
  std::vector<JobStatus> all;
  for (const JobPlace& found : jobs) {
    all.push_back(status_at(place, found, now));
    const auto alike = std::count_if(jobs.begin(), jobs.end(), [&](const JobPlace& other) {
      return other.identity.machine == found.identity.machine && other.identity.name == found.identity.name;
    });
    if (alike > 1) all.back().folder = found.folder;
  }
  sort_status(all);
  return all;
}

}  // namespace kestrum
