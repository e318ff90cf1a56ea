#include "base/text.hpp"
#include "tell/report_page.hpp"
#include "tell/status_documents.hpp"

namespace kestrum {
namespace {

Json forecast_json(const JobForecast& forecast) {
  for (const Scenario& one : forecast.scenarios) {
    if (!one.own) continue;
    return {{"days", forecast.question.days},
            {"full-on", instant_json(one.forecast.full_on)},
            {"in-the-end-bytes", one.forecast.days.empty() ? 0 : one.forecast.days.back().job_bytes},
            {"peak-bytes", one.forecast.peak_bytes}};
  }
  return nullptr;
}

Json job_json(const JobReport& job, Instant now) {
  Json json = job_status_json(job.status, now);
  json["runs"] = Json::array();
  for (const RunEntry& run : job.runs) json["runs"].push_back(run_json(run));
  json["forecast"] = job.forecast ? forecast_json(*job.forecast) : Json(nullptr);
  json["points"] = Json::array();
  for (const DriveStatus& drive : job.status.drives) {
    for (const PointInfo& point : drive.points) {
      if (!point.sealed) continue;
      Json one = facts_json(point.facts);
      one["destination"] = to_utf8(drive.named);
      one["health"] = health_text(point.health);
      json["points"].push_back(std::move(one));
    }
  }
  json["proved"] = Json::array();
  for (const ProvedPoint& one : job.proved)
    json["proved"].push_back({{"point", one.point},
                              {"destination", to_utf8(one.drive)},
                              {"when", utc_text(one.check.when)},
                              {"depth", depth_text(one.check.depth)},
                              {"good", one.check.good}});
  return json;
}

}  // namespace

std::string report_document(const Report& report) {
  Json json = document("report");
  json["of"] = to_utf8(report.of);
  json["sentence"] = to_utf8(report_sentence(report));
  json["agent"] = report.agent ? Json(*report.agent) : Json(nullptr);
  json["jobs"] = Json::array();
  for (const JobReport& job : report.jobs) json["jobs"].push_back(job_json(job, report.now));
  return text_of(json);
}

}  // namespace kestrum
