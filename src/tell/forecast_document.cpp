#include "base/text.hpp"
#include "plan/plan_words.hpp"
#include "tell/documents.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

std::string forecast_document(const JobForecast& forecast) {
  Json json = document("forecast");
  json["job"] = to_utf8(forecast.job);
  json["folder"] = to_utf8(forecast.root);
  json["days"] = forecast.question.days;
  json["scheduled"] = forecast.scheduled;
  json["drive"] = {{"free-bytes", forecast.question.free}, {"total-bytes", forecast.question.total}};
  const SizeModel& sizes = forecast.question.sizes;
  json["sizes"] = {{"full-bytes", sizes.full_bytes},
                   {"growth-a-day", sizes.growth_a_day},
                   {"change-a-day", sizes.change_a_day},
                   {"full-from", sizes.full_assumed ? "sample" : "history"},
                   {"change-from", sizes.change_assumed ? "assumed" : "history"}};
  json["ways"] = Json::array();
  for (const Scenario& one : forecast.scenarios) {
    const Forecast& result = one.forecast;
    Json days = Json::array();
    for (const ForecastDay& day : result.days) {
      days.push_back({{"ends", utc_text({day.ends.seconds, 0})},
                      {"stored-bytes", day.job_bytes},
                      {"peak-bytes", day.peak_bytes},
                      {"points", day.points},
                      {"restore-sets", day.restore_sets},
                      {"runs", day.runs},
                      {"failed", day.failed}});
    }
    Json broken = Json::array();
    for (const Promise& promise : result.broken)
      broken.push_back(broken_rule_text(rule_text(promise, result.rules)));
    json["ways"].push_back({{"name", one.name},
                            {"own", one.own},
                            {"runs", result.runs},
                            {"full-sets", result.fulls},
                            {"removed", result.removed},
                            {"folded", result.folded},
                            {"written-bytes", result.written_bytes},
                            {"peak-bytes", result.peak_bytes},
                            {"full-on", result.full_on ? Json(utc_text(*result.full_on)) : Json(nullptr)},
                            {"most-restore-sets", result.most_restore_sets},
                            {"broken-promises", broken},
                            {"by-day", days}});
  }
  return text_of(json);
}

}  // namespace kestrum
