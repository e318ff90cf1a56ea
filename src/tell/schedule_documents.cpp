#include "tell/schedule_documents.hpp"

#include "base/text.hpp"
#include "calendar/calendar_file.hpp"
#include "calendar/local_time.hpp"
#include "tell/due_words.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

std::string schedule_document(const Schedule& schedule) {
  Json json = document("schedule");
  json["runs"] = Json::array();
  for (const ComingRun& run : schedule.runs) {
    json["runs"].push_back({{"job", run.job},
                            {"due", utc_text(run.due)},
                            {"starts", utc_text(run.starts)},
                            {"time", run.phrase},
                            {"kind", run.kind ? Json(kind_name(*run.kind)) : Json(nullptr)},
                            {"usual-seconds", run.takes ? Json(run.takes->count()) : Json(nullptr)},
                            {"behind", run.behind.empty() ? Json(nullptr) : Json(run.behind)}});
  }
  json["waiting"] = Json::array();
  for (const auto& [job, wait] : schedule.waiting) {
    json["waiting"].push_back(
        {{"job", job},
         {"for", due_reason_name(wait.reason)},
         {"destination", to_utf8(wait.drive)},
         {"since", utc_text(wait.since)},
         {"until", wait.look_again ? Json(utc_text(*wait.look_again)) : Json(nullptr)}});
  }
  json["paused"] = Json::array();
  for (const auto& [job, pause] : schedule.paused)
    json["paused"].push_back(
        {{"job", job}, {"until", pause.until ? Json(utc_text(*pause.until)) : Json(nullptr)}});
  json["without-times"] = schedule.without;
  json["cut"] = schedule.cut;
  return text_of(json);
}

std::string schedule_calendar(const Schedule& schedule, const std::string& machine, Instant now) {
  std::vector<CalendarEntry> entries;
  for (const ComingRun& run : schedule.runs) {
    CalendarEntry entry;
    entry.begins = run.starts;
    entry.seconds = run.takes ? run.takes->count() : 0;
    entry.title = "Backup " + run.job + " (" + machine + ")";
    entry.words = run.phrase;
    if (run.kind) entry.words += "; " + std::string(kind_name(*run.kind));
    if (run.starts != run.due) entry.words += "; due " + local_text(run.due);
    if (!run.behind.empty()) entry.words += "; after " + run.behind;
    entry.identity = std::to_string(run.due.seconds) + "-" + to_hex(as_bytes(run.job)) + "@" + machine;
    entries.push_back(std::move(entry));
  }
  return calendar_text(entries, now);
}

}  // namespace kestrum
