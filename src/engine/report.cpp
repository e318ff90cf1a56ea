#include "engine/report.hpp"

#include <algorithm>

#include "engine/agent_seat.hpp"

namespace kestrum {
namespace {

constexpr int most_runs = 10000;  // of a job that runs on change, in eight weeks

std::vector<RunEntry> lately(std::vector<RunEntry> runs, Instant now) {
  const Instant from{now.seconds - std::int64_t{report_days} * 86400, 0};
  std::erase_if(runs, [&](const RunEntry& run) { return run.started < from || now < run.started; });
  return runs;
}

// What a set says of the run that made it.
RunEntry run_of(const PointInfo& point, const JobStatus& status) {
  RunEntry run;
  run.job = status.job;
  run.started = point.facts.started;
  run.ended = point.facts.ended;
  run.sequence = point.sequence;
  run.kind = point.facts.kind;
  run.totals = point.facts.totals;
  run.problems = static_cast<std::int64_t>(point.facts.problems);
  run.result = run.problems > 0 ? RunResult::done_with_problems : RunResult::done;
  return run;
}

void look_at_checks(JobReport& report, History& history) {
  constexpr std::size_t enough = 5;
  for (const DriveStatus& drive : report.status.drives) {
    std::vector<Id> sets;
    std::vector<Sequence> numbers;
    for (const PointInfo& point : drive.points) {
      if (!point.sealed) continue;
      sets.push_back(point.facts.set);
      numbers.push_back(point.sequence);
    }
    const std::vector<SetChecks> checks = history.checks(sets);
    for (std::size_t i = 0; i < checks.size(); ++i) {
      if (checks[i].last) report.proved.push_back({numbers[i], drive.named, *checks[i].last});
    }
  }
  std::stable_sort(report.proved.begin(), report.proved.end(),
                   [](const ProvedPoint& a, const ProvedPoint& b) {
                     return std::pair(b.check.when, b.point) < std::pair(a.check.when, a.point);
                   });
  if (report.proved.size() > enough) report.proved.resize(enough);
}

// Only by sets that are there: sources are not read for a page.
std::optional<JobForecast> forecast_of(const JobStatus& status, const RunContext& context) {
  const bool known = std::any_of(status.drives.begin(), status.drives.end(), [](const DriveStatus& drive) {
    return !drive.root.empty() && std::any_of(drive.points.begin(), drive.points.end(),
                                              [](const PointInfo& point) { return point.sealed; });
  });
  if (!known) return std::nullopt;
  try {
    return forecast_job(status.job, report_days_ahead, context);
  } catch (const Error&) {
    return std::nullopt;  // what is wrong is among the troubles
  }
}

}  // namespace

Report report_jobs(const std::vector<std::string>& names, const RunContext& context) {
  Report report{.of = context.machine, .now = context.clock.now(), .jobs = {}, .agent = {}, .mail = {}};
  History history = History::open(context);
  for (JobStatus& status : job_status(names, context)) {
    JobReport job{std::move(status), {}, {}, {}};
    job.runs = lately(history.runs(job.status.job, most_runs), report.now);
    job.forecast = forecast_of(job.status, context);
    look_at_checks(job, history);
    report.jobs.push_back(std::move(job));
  }
  report.agent = agent_here(context.home).has_value();
  report.mail = look_at_outbox(context.home);
  return report;
}

Report report_place(const DestinationAddress& address, const OpenStore& open_store, Instant now) {
  Report report{.of = {}, .place = true, .now = now, .jobs = {}, .agent = {}, .mail = {}};
  for (JobStatus& status : place_status(address, open_store, now)) {
    JobReport job{std::move(status), {}, {}, {}};
    std::vector<RunEntry> runs;
    for (const DriveStatus& drive : job.status.drives) {
      report.of = drive.root;
      for (auto point = drive.points.rbegin(); point != drive.points.rend(); ++point) {
        if (point->sealed) runs.push_back(run_of(*point, job.status));
      }
    }
    job.runs = lately(std::move(runs), now);
    report.jobs.push_back(std::move(job));
  }
  return report;
}

}  // namespace kestrum
