// What a report tells: how jobs stand, what their runs did lately, how their drives will fill, what was
// proved.
#pragma once

#include "engine/outbox.hpp"
#include "engine/outlook.hpp"
#include "engine/status.hpp"

namespace kestrum {

// The runs of so many days are told of.
inline constexpr int report_days = 56;
// How far ahead drives are looked at.
inline constexpr unsigned report_days_ahead = 90;

struct ProvedPoint {
  Sequence point = 0;
  std::string drive;  // as the job names it
  CheckEntry check;
};

struct JobReport {
  JobStatus status;
  std::vector<RunEntry> runs;  // of the last report_days, newest first; of a place those that its points tell
  std::optional<JobForecast> forecast;  // none: no drive is there, or nothing is known yet
  std::vector<ProvedPoint> proved;      // the last checks of points that are there, newest first
};

struct Report {
  std::string of;  // machine, or the folder of a place
  bool place = false;
  Instant now;
  std::vector<JobReport> jobs;  // worst first
  std::optional<bool> agent;    // whether one is there; nothing where that is not asked
  OutboxLook mail;
};

// `names`: none means every job of the home. Throws Error of kind usage for a name that is no job.
Report report_jobs(const std::vector<std::string>& names, const RunContext& context);
// Every machine and job on a destination; needs no key and no home. Throws as place_status().
Report report_place(const DestinationAddress& address, const OpenStore& open_store, Instant now);

}  // namespace kestrum
