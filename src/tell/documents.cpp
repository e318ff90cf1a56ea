#include "tell/documents.hpp"

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "plan/plan_words.hpp"
#include "tell/due_words.hpp"
#include "tell/json_parts.hpp"
#include "tell/restored_json.hpp"

namespace kestrum {
namespace {

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

Json check_json(const JobCheck& check) {
  return {{"started", utc_text(check.started)}, {"ended", instant_json(check.ended)},
          {"exit-code", check.exit_code},       {"bytes", check.bytes},
          {"left-bytes", check.left_bytes},     {"complete", check.complete},
          {"text", to_utf8(check_text(check))}};
}

std::string runs_document(const std::vector<RunOutcome>& runs, const std::vector<JobCheck>& checks) {
  Json json = document("run");
  json["checks"] = Json::array();
  for (const JobCheck& check : checks) {
    json["checks"].push_back(check_json(check));
    json["checks"].back()["job"] = check.job;
    json["checks"].back()["kind"] = check_kind_word(check.kind);
  }
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
      {"sure", !outlook->unsure},
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
    json["destinations"].push_back(
        {{"next-run", outlook_json(outlooks.at(i))},
         {"drive", to_utf8(points.drive)},
         {"folder", to_utf8(points.destination)},
         {"free-bytes", points.space.free},
         {"total-bytes", points.space.total},
         {"findings", findings_json(points.findings)},
         {"notes", findings_json(points.notes)},
         {"words-proved", points.words_proved},
         {"refused", points.refused ? Json(to_utf8(points.refused->what())) : Json(nullptr)}});
    if (points.left)
      json["destinations"].back()["unfinished"] = {
          {"point", points.left->sequence},
          {"begun", utc_text(points.left->begun)},
          {"bytes", points.left->bytes},
          {"percent", points.left->percent ? Json(*points.left->percent) : Json(nullptr)}};
    for (const PointInfo& info : points.points) {
      Json one = info.sealed ? facts_json(info.facts) : Json{{"point", info.sequence}};
      if (info.sealed) one["needs"] = info.needs;
      one["drive"] = to_utf8(points.drive);
      one["sealed"] = info.sealed;
      one["folder"] = info.folder;
      one["health"] = health_text(info.health);
      if (info.closed) one["earlier-passphrase"] = true;
      if (info.sealed) one["standing"] = standing_json(info.facts.standing);
      if (info.proved)
        one["read-back"] = {
            {"bytes", info.proved->bytes},
            {"unpacked-bytes", info.proved->unpacked_bytes},
            {"of-bytes", info.proved->all},
            {"oldest", info.proved->oldest ? Json(utc_text(*info.proved->oldest)) : Json(nullptr)}};
      one["findings"] = findings_json(info.findings);
      json["points"].push_back(std::move(one));
    }
  }
  return text_of(json);
}

std::string browse_document(const SetFacts& point, const Listing& listing, DiskToday& disk) {
  Json json = document("browse");
  json["point"] = facts_json(point);
  json["self"] = entry_json(listing.self);
  json["children"] = Json::array();
  for (const Listing::Child& child : listing.children) {
    Json one = entry_json(child.entry);
    one["today"] = today_word(disk.look(child.entry));
    if (child.below) one["below"] = {{"entries", child.below->entries}, {"bytes", child.below->bytes}};
    json["children"].push_back(std::move(one));
  }
  json["findings"] = findings_json(listing.findings);
  return text_of(json);
}

std::string restores_document(const std::vector<RestoreEntry>& entries) {
  Json json = document("restores");
  json["restores"] = Json::array();
  for (const RestoreEntry& one : entries) {
    json["restores"].push_back({{"job", to_utf8(one.job)},
                                {"machine", to_utf8(one.machine)},
                                {"drive", to_utf8(one.drive)},
                                {"point", one.point},
                                {"point-started", utc_text(one.point_started)},
                                {"started", utc_text(one.started)},
                                {"seconds", one.seconds},
                                {"result", result_text(one.result)},
                                {"to", to_utf8(one.where)},
                                {"files", one.files},
                                {"bytes", one.bytes},
                                {"left-alone", one.left_alone},
                                {"problems", one.problems}});
  }
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
  json["from-other-points"] = result.nearest;
  json["set-id-left-off"] = result.set_id_left;
  json["archive-bytes"] = result.archive_bytes;
  json["seconds"] = std::chrono::duration<double>(result.duration).count();
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
    json["items"].push_back(restored_json(item));
  }
  json["problems"] = problems_json(result.problems);
  return text_of(json);
}

}  // namespace kestrum
