#include "tell/status_documents.hpp"

#include "base/text.hpp"
#include "tell/documents.hpp"
#include "tell/status_words.hpp"

namespace kestrum {
namespace {

Json space_json(const std::optional<StoreSpace>& space) {
  return space ? Json{{"free-bytes", space->free}, {"total-bytes", space->total}} : Json(nullptr);
}

Json age_json(const std::optional<Instant>& when, Instant now) {
  return when ? Json(std::chrono::duration_cast<std::chrono::seconds>(between(*when, now)).count())
              : Json(nullptr);
}

std::string troubles_text(const JobStatus& status) {
  std::vector<std::string> parts;
  for (const JobTrouble& trouble : status.troubles) parts.push_back(trouble_text(trouble, status));
  return join(parts, "; ");
}

}  // namespace

Json look_json(const CheckLook& look) {
  return {{"last", look.last ? check_json(*look.last) : Json(nullptr)},
          {"going", look.going},
          {"waits-for", look.wait ? Json(due_reason_name(look.wait->reason)) : Json(nullptr)},
          {"next", instant_json(look.next)}};
}

Json job_status_json(const JobStatus& status, Instant now) {
  std::string name = (status.machine.empty() ? "" : status.machine + ": ") + status.job;
  Json one{
      {"job", name},
      {"job-folder", status.folder.empty() ? Json(nullptr) : Json(to_utf8(status.folder))},
      {"newest-good-point", instant_json(status.newest_good)},
      {"age-seconds", age_json(status.newest_good, now)},
      {"last-run", status.last ? run_json(*status.last) : Json(nullptr)},
      {"disabled", status.disabled},
      {"encrypted", status.encrypted},
      {"next-run", instant_json(status.times.next)},
      {"on-change", status.times.on_change},
      {"unwatched", status.times.unwatched.empty() ? Json(nullptr) : Json(to_utf8(status.times.unwatched))},
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
                                   {"way-in-tried", instant_json(drive.way_tried)},
                                   {"drive", space_json(drive.space)}});
  }
  one["checks"] = look_json(status.checks);
  one["drills"] = look_json(status.drills);
  one["trouble"] = to_utf8(troubles_text(status));
  one["troubles"] = Json::array();
  one["trouble-list"] = Json::array();
  for (const JobTrouble& trouble : status.troubles) {
    one["troubles"].push_back(trouble_name(trouble.kind));
    one["trouble-list"].push_back({{"trouble", trouble_name(trouble.kind)},
                                   {"destination", to_utf8(trouble.drive)},
                                   {"text", to_utf8(trouble_text(trouble, status))}});
  }
  return one;
}

std::string status_document(const std::vector<JobStatus>& jobs, std::optional<bool> agent,
                            const OutboxLook& mail, Instant now) {
  Json json = document("status");
  json["agent"] = agent ? Json(*agent) : Json(nullptr);
  json["mail"] = {{"waiting", mail.waiting},
                  {"to", mail.to},
                  {"trouble", mail.trouble.empty() ? Json(nullptr) : Json(to_utf8(mail.trouble))}};
  json["jobs"] = Json::array();
  for (const JobStatus& status : jobs) json["jobs"].push_back(job_status_json(status, now));
  return text_of(json);
}

}  // namespace kestrum
