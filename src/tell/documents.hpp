// Results as JSON, for programs: one versioned document each, described in docs/JSON.md.
#pragma once

#include <string>

#include "engine/backup.hpp"
#include "engine/disk_today.hpp"
#include "engine/due_desk.hpp"
#include "engine/job_check.hpp"
#include "engine/outbox.hpp"
#include "engine/outlook.hpp"
#include "engine/point_difference.hpp"
#include "engine/point_standing.hpp"
#include "engine/preview.hpp"
#include "engine/prune.hpp"
#include "engine/restore.hpp"
#include "engine/status.hpp"
#include "engine/verify.hpp"
#include "ledger/restore_book.hpp"

namespace kestrum {

std::string error_document(const Error& error, int exit_code);
std::string job_document(const Job& job);
std::string edited_document(const Job& job, const std::vector<std::string>& meaning);
std::string recovery_document(const std::string& secret_file, const std::string& public_file);
std::string jobs_document(const std::vector<Job>& jobs, const std::vector<std::string>& broken);
std::string done_document(const std::string& what, const std::string& name);
std::string preview_document(const std::string& job, const PreviewResult& preview);
std::string why_document(const std::string& job, const std::string& path, const Explanation& explanation);

// `checks`: that were due too.
std::string runs_document(const std::vector<RunOutcome>& runs, const std::vector<JobCheck>& checks = {});
// `due`: of the same job, with the runs that they have.
std::string history_document(const std::vector<RunEntry>& runs, const std::vector<DueMade>& due);
// The same as comma-separated values (RFC 4180), a line for each run and each due moment without one.
std::string history_csv(const std::vector<RunEntry>& runs, const std::vector<DueMade>& due);
// What was restored on this machine.
std::string restores_document(const std::vector<RestoreEntry>& entries);
// `files`: what the run made of the point before; nullptr when that was not asked for.
std::string version_document(const std::string& version);
std::string history_run_document(const RunEntry& run, const std::vector<Problem>& problems,
                                 const std::vector<ChangedFile>* files = nullptr);

// `agent`: whether one is there; nothing where that is not asked for.
std::string status_document(const std::vector<JobStatus>& jobs, std::optional<bool> agent,
                            const OutboxLook& mail, Instant now);

// `outlooks`: of each drive, where the job is known.
std::string points_document(const std::vector<PointsResult>& drives,
                            const std::vector<std::optional<Outlook>>& outlooks);  // at least one
std::string forecast_document(const JobForecast& forecast);
std::string browse_document(const SetFacts& point, const Listing& listing, DiskToday& disk);
std::string restore_document(const RestoreResult& result, const std::vector<RestoredItem>& items,
                             std::uint64_t item_count);
std::string verify_document(const std::vector<DriveVerdict>& verdicts);  // at least one
std::string prune_document(const std::string& job, const std::vector<PruneOutcome>& outcomes);
std::string said_document(const std::string& job, const std::vector<PointSaid>& said);
std::string kept_document(const std::string& job, const KeptOutcome& outcome);
// `done`: nullptr when it was only looked at.
std::string drop_document(const std::string& job, const DropOutlook& look, const DropOutcome* done);
std::string drop_gone_document(const std::string& job, const KnownPoint& gone);
std::string fold_document(const std::string& job, const std::vector<FoldOutcome>& outcomes);

}  // namespace kestrum
