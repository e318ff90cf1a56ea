#include "tell/documents.hpp"

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "plan/plan_words.hpp"
#include "tell/due_words.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {
namespace {

Json run_json(const RunEntry& run) {
  Json broken = Json::array();
  for (const BrokenRule& one : run.broken)
    broken.push_back({{"rule", one.rule},
                      {"points", one.points},
                      {"oldest-left", one.oldest_left ? Json(utc_text(*one.oldest_left)) : Json(nullptr)}});
  Json json{{"job", run.job},
            {"run", run.number},
            {"result", result_text(run.result)},
            {"exit", run.exit_code},
            {"started", utc_text(run.started)},
            {"ended", run.ended ? Json(utc_text(*run.ended)) : Json(nullptr)},
            {"destination", to_utf8(run.destination)},
            {"point", run.sequence ? Json(*run.sequence) : Json(nullptr)},
            {"kind", run.kind ? kind_name(*run.kind) : std::string_view()},
            {"reason", run.reason},
            {"totals", totals_json(run.totals)},
            {"problem-count", run.problems},
            {"checked", run.checked == ReadBack::none ? std::string_view() : read_back_text(run.checked)},
            {"upkeep", run.upkeep},
            {"broken-promises", broken},
            {"message", to_utf8(run.message)},
            {"log", to_utf8(run.log_file)}};
  return json;
}

const char* kind_word(ErrorKind kind) {
  switch (kind) {
    case ErrorKind::usage:
      return "usage";
    case ErrorKind::failed:
      return "failed";
    case ErrorKind::damage:
      return "damage";
    case ErrorKind::no_destination:
      return "no-destination";
    case ErrorKind::not_reachable:
      return "not-reachable";
    case ErrorKind::busy:
      return "busy";
    case ErrorKind::key:
      return "key";
    case ErrorKind::wrong_drive:
      return "wrong-drive";
    case ErrorKind::full:
      return "full";
    case ErrorKind::suspect:
      return "suspect";
    case ErrorKind::stopped:
      return "stopped";
  }
  return "failed";
}

}  // namespace

std::string error_document(const Error& error, int exit_code) {
  Json json = document("error");
  json["kind"] = kind_word(error.kind());
  json["exit"] = exit_code;
  json["message"] = to_utf8(error.what());
  json["hint"] = to_utf8(error.hint());
  return text_of(json);
}

std::string runs_document(const std::vector<RunOutcome>& runs) {
  Json json = document("run");
  json["runs"] = Json::array();
  for (const RunOutcome& outcome : runs) {
    Json run = run_json(outcome.entry);
    run["set-folder"] = to_utf8(outcome.set_folder);
    run["free-bytes"] = outcome.entry.sequence ? Json(outcome.free_bytes) : Json(nullptr);
    run["problems"] = problems_json(outcome.problems);
    if (outcome.error) run["hint"] = to_utf8(outcome.error->hint());
    json["runs"].push_back(std::move(run));
  }
  return text_of(json);
}

// A run's number, where the line has one.
static Json due_json(const DueMade& made) {
  const DueLine& line = made.line;
  return {{"job", line.job},
          {"due", utc_text(line.when)},
          {"first", utc_text(line.first)},
          {"moments", line.moments},
          {"time", line.phrase},
          {"fate", fate_text(line.fate)},
          {"because", line.reason == DueReason::none ? Json(nullptr) : Json(due_reason_name(line.reason))},
          {"run", made.run ? Json(made.run->number) : Json(nullptr)},
          {"made-up", line.fate == DueFate::ran && (line.late || !line.own)},
          {"text", due_text(line, made.run)}};
}

std::string history_document(const std::vector<RunEntry>& runs, const std::vector<DueMade>& due) {
  Json json = document("history");
  json["runs"] = Json::array();
  for (const RunEntry& run : runs) json["runs"].push_back(run_json(run));
  json["due"] = Json::array();
  for (const DueMade& made : due) json["due"].push_back(due_json(made));
  return text_of(json);
}

std::string version_document(const std::string& version) {
  Json json = document("version");
  json["program"] = version;
  json["archive-format"] = 1;
  return text_of(json);
}

std::string history_run_document(const RunEntry& run, const std::vector<Problem>& problems,
                                 const std::vector<ChangedFile>* files) {
  Json json = document("history-run");
  json["run"] = run_json(run);
  json["problems"] = problems_json(problems);
  if (files != nullptr) json["files"] = Json::array();
  for (std::size_t i = 0; files != nullptr && i < files->size(); ++i) {
    Json one = entry_json((*files)[i].entry);
    one["change"] = change_word((*files)[i].how);
    json["files"].push_back(std::move(one));
  }
  return text_of(json);
}

namespace {

// As a command's SUBJECT.
std::string subject_of(const JobStatus& status) {
  if (status.machine.empty()) return shell_word(status.job);
  return shell_word(printable(status.drives.at(0).root)) + " --machine " +
         shell_word(printable(status.machine)) + " --job " + shell_word(printable(status.job));
}

std::string words_of(const JobTrouble& trouble, const JobStatus& status) {
  switch (trouble.kind) {
    case TroubleKind::job_file:
      return "its job file is wrong: " + trouble.text +
             (trouble.count > 0 ? "; until that is mended its last good form counts" : "");
    case TroubleKind::damaged:
      return count_text(trouble.count, "damaged point") + ": kestrum verify " + subject_of(status);
    case TroubleKind::incomplete:
      return count_text(trouble.count, "point lacks a set that it needs", "points lack a set that they need");
    case TroubleKind::overdue:
      return "no good point for " + trouble.text;
    case TroubleKind::missed:
      return "due on " + local_text(trouble.when) + ", not run";
    case TroubleKind::waits:
      return "the drive is not there; a run that was due on " + local_text(trouble.when) + " waits for it";
    case TroubleKind::soon:
      return "the " + trouble.text + " that it may be without a good point end on " +
             local_text(trouble.when);
    case TroubleKind::never_run:
      return "it has never run: kestrum run " + subject_of(status);
    case TroubleKind::no_point:
      return "it has no point yet";
    case TroubleKind::clock:
      return "its newest point or run is of " + local_text(trouble.when) +
             ", later than the clock says now: is the clock right?";
    case TroubleKind::cut_off:
      return "its last run is still going, or was cut off";
    case TroubleKind::drive_away:
      return "it is not there, and a set is to go to each drive";
    case TroubleKind::drive_bare:
      return "it has no good point, and a set is to go to each drive";
    case TroubleKind::broken:
      return broken_text(trouble.broken);
    case TroubleKind::problems:
      return count_text(trouble.count, "problem") + " in its last run" +
             (status.last ? ": kestrum history " + subject_of(status) + " --run " +
                                std::to_string(status.last->number)
                          : std::string());
    case TroubleKind::gone:
    case TroubleKind::failed:
    case TroubleKind::place:
      return trouble.text;
  }
  return trouble.text;
}

const char* trouble_word(TroubleKind kind) {
  static constexpr const char* words[] = {
      "job-file", "damaged",    "incomplete", "gone",           "failed", "overdue",
      "missed",   "waits",      "never-run",  "no-point",       "soon",   "clock",
      "cut-off",  "drive-away", "drive-bare", "broken-promise", "place",  "problems"};
  return words[static_cast<std::size_t>(kind)];
}

Json space_json(const std::optional<StoreSpace>& space) {
  return space ? Json{{"free-bytes", space->free}, {"total-bytes", space->total}} : Json(nullptr);
}

Json instant_json(const std::optional<Instant>& when) {
  return when ? Json(utc_text(*when)) : Json(nullptr);
}

Json age_json(const std::optional<Instant>& when, Instant now) {
  return when ? Json(std::chrono::duration_cast<std::chrono::seconds>(between(*when, now)).count())
              : Json(nullptr);
}

}  // namespace

std::string trouble_text(const JobTrouble& trouble, const JobStatus& status) {
  return (trouble.drive.empty() ? "" : printable(trouble.drive) + ": ") + words_of(trouble, status);
}

static std::string troubles_text(const JobStatus& status) {
  std::vector<std::string> parts;
  for (const JobTrouble& trouble : status.troubles) parts.push_back(trouble_text(trouble, status));
  return join(parts, "; ");
}

std::string status_document(const std::vector<JobStatus>& jobs, std::optional<bool> agent, Instant now) {
  Json json = document("status");
  json["agent"] = agent ? Json(*agent) : Json(nullptr);
  json["jobs"] = Json::array();
  for (const JobStatus& status : jobs) {
    std::string name = (status.machine.empty() ? "" : status.machine + ": ") + status.job;
    Json one{
        {"job", name},
        {"newest-good-point", instant_json(status.newest_good)},
        {"age-seconds", age_json(status.newest_good, now)},
        {"last-run", status.last ? run_json(*status.last) : Json(nullptr)},
        {"disabled", status.disabled},
        {"next-run", instant_json(status.times.next)},
        {"going", status.times.going ? Json(status.times.going->number) : Json(nullptr)},
        {"waits-for", status.times.wait ? Json(due_reason_name(status.times.wait->reason)) : Json(nullptr)},
        {"waits-since", status.times.wait ? Json(utc_text(status.times.wait->since)) : Json(nullptr)},
        {"paused", status.times.pause.has_value()},
        {"paused-until", status.times.pause ? instant_json(status.times.pause->until) : Json(nullptr)}};
    one["destination"] = status.drives.empty() ? "" : to_utf8(status.drives[0].named);
    one["destination-there"] = !status.drives.empty() && !status.drives[0].root.empty();
    one["drive"] = status.drives.empty() ? Json(nullptr) : space_json(status.drives[0].space);
    one["destinations"] = Json::array();
    for (const DriveStatus& drive : status.drives) {
      one["destinations"].push_back({{"destination", to_utf8(drive.named)},
                                     {"folder", to_utf8(drive.root)},
                                     {"there", !drive.root.empty()},
                                     {"newest-good-point", instant_json(drive.newest_good)},
                                     {"age-seconds", age_json(drive.newest_good, now)},
                                     {"drive", space_json(drive.space)}});
    }
    one["trouble"] = to_utf8(troubles_text(status));
    one["troubles"] = Json::array();
    one["trouble-list"] = Json::array();
    for (const JobTrouble& trouble : status.troubles) {
      one["troubles"].push_back(trouble_word(trouble.kind));
      one["trouble-list"].push_back({{"trouble", trouble_word(trouble.kind)},
                                     {"destination", to_utf8(trouble.drive)},
                                     {"text", to_utf8(trouble_text(trouble, status))}});
    }
    json["jobs"].push_back(std::move(one));
  }
  return text_of(json);
}

// The next run there, and what goes after it.
static Json outlook_json(const std::optional<Outlook>& outlook) {
  if (!outlook) return nullptr;
  Json after = Json::array();
  for (const SetFate& fate : outlook->after.fates) {
    if (fate.fate == Fate::stays) continue;
    after.push_back({{"point", fate.sequence},
                     {"fate", fate_name(fate.fate)},
                     {"into", fate.fate == Fate::folds ? Json(fate.into) : Json(nullptr)},
                     {"reason", fate_reason_text(outlook->after, fate)}});
  }
  return {
      {"when", instant_json(outlook->when)},
      {"kind", kind_name(outlook->next.kind)},
      {"reason", kind_reason_text(outlook->next)},
      {"held", outlook->after.held == Hold::nothing ? Json(nullptr) : Json(hold_text(outlook->after.held))},
      {"after-it", after}};
}

std::string points_document(const std::vector<PointsResult>& drives,
                            const std::vector<std::optional<Outlook>>& outlooks) {
  Json json = document("points");
  const PointsResult& first = drives.at(0);
  json["machine"] = first.machine;
  json["job"] = first.job;
  json["encrypted"] = first.encrypted ? Json(*first.encrypted) : Json(nullptr);
  json["destinations"] = Json::array();
  json["points"] = Json::array();
  for (std::size_t i = 0; i < drives.size(); ++i) {
    const PointsResult& points = drives[i];
    json["destinations"].push_back({{"next-run", outlook_json(outlooks.at(i))},
                                    {"drive", to_utf8(points.drive)},
                                    {"folder", to_utf8(points.destination)},
                                    {"free-bytes", points.space.free},
                                    {"total-bytes", points.space.total},
                                    {"findings", findings_json(points.findings)},
                                    {"notes", findings_json(points.notes)}});
    for (const PointInfo& info : points.points) {
      Json one = info.sealed ? facts_json(info.facts) : Json{{"point", info.sequence}};
      if (info.sealed) one["needs"] = info.needs;
      one["drive"] = to_utf8(points.drive);
      one["sealed"] = info.sealed;
      one["folder"] = info.folder;
      one["health"] = health_text(info.health);
      if (info.closed) one["earlier-passphrase"] = true;
      if (info.sealed) one["standing"] = standing_json(info.facts.standing);
      one["findings"] = findings_json(info.findings);
      json["points"].push_back(std::move(one));
    }
  }
  return text_of(json);
}

std::string browse_document(const SetFacts& point, const Listing& listing) {
  Json json = document("browse");
  json["point"] = facts_json(point);
  json["self"] = entry_json(listing.self);
  json["children"] = Json::array();
  for (const Entry& entry : listing.children) json["children"].push_back(entry_json(entry));
  return text_of(json);
}

std::string restore_document(const RestoreResult& result, const std::vector<RestoredItem>& items,
                             std::uint64_t item_count) {
  Json json = document("restore");
  json["point"] = facts_json(result.point);
  json["files"] = result.files;
  json["folders"] = result.folders;
  json["others"] = result.others;
  json["bytes"] = result.bytes;
  json["kept"] = result.kept;
  json["identical"] = result.same;
  json["beside"] = result.beside;
  json["replaced"] = result.replaced;
  json["room"] = result.room ? Json{{"needed-bytes", result.room->needed},
                                    {"free-bytes", result.room->free},
                                    {"fits", result.room->fits()}}
                             : Json(nullptr);
  json["owners-kept-back"] = result.owners_kept_back;
  json["unproved-kept-back"] = result.unproved_kept_back;
  json["unknown-owners"] = Json::object();
  for (const auto& [name, number] : result.unknown_owners) json["unknown-owners"][to_utf8(name)] = number;
  json["damaged"] = result.damaged;
  json["item-count"] = item_count;
  json["items"] = Json::array();
  for (const RestoredItem& item : items) {
    Json one = Json::object();
    put_path(one, "path", item.path.absolute());
    put_path(one, "placed", item.placed);
    one["type"] = entry_type_name(item.type);
    one["size"] = item.size;
    one["fate"] = fate_word(item.fate);
    one["note"] = fate_text(item.fate);
    json["items"].push_back(std::move(one));
  }
  json["problems"] = problems_json(result.problems);
  return text_of(json);
}

std::string verify_document(const std::vector<DriveVerdict>& verdicts) {
  Json json = document("verify");
  json["depth"] = depth_text(verdicts.at(0).result.depth);
  json["good"] =
      std::all_of(verdicts.begin(), verdicts.end(), [](const auto& one) { return one.result.good(); });
  json["bytes"] = 0;
  json["findings"] = Json::array();
  json["points"] = Json::array();
  std::uint64_t bytes = 0;
  for (const auto& [destination, result] : verdicts) {
    bytes += result.bytes;
    for (const std::string& finding : result.findings) json["findings"].push_back(to_utf8(finding));
    for (const PointVerdict& verdict : result.points) {
      Json one{{"point", verdict.sequence},
               {"destination", to_utf8(destination)},
               {"folder", verdict.folder},
               {"good", verdict.good()},
               {"unreadable", to_utf8(verdict.unreadable)}};
      one["findings"] = findings_json(verdict.findings);
      one["affected-files"] = verdict.affected_count;
      one["affected"] = Json::array();
      for (const AffectedFile& file : verdict.affected) {
        Json affected = Json::object();
        put_path(affected, "path", file.path);
        affected["reason"] = to_utf8(file.reason);
        one["affected"].push_back(std::move(affected));
      }
      json["points"].push_back(std::move(one));
    }
  }
  json["bytes"] = bytes;
  return text_of(json);
}

}  // namespace kestrum
