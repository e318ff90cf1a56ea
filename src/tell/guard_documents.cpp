#include "tell/guard_documents.hpp"

#include "base/text.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {
namespace {

Json trusted_json(const std::optional<SetFacts>& trusted) {
  if (!trusted) return nullptr;
  return {{"point", trusted->sequence}, {"started", utc_text(trusted->started)}};
}

Json doubted_json(const DoubtedPoint& point) {
  Json evidence = Json::array();
  for (const EvidenceLine& line : point.evidence) {
    evidence.push_back({{"what", evidence_name(line.what)},
                        {"files", line.files},
                        {"ending", line.ending.empty() ? Json(nullptr) : Json(to_utf8(line.ending))},
                        {"text", evidence_text(line)}});
  }
  Json examples = Json::array();
  for (const std::string& path : point.examples) examples.push_back(to_utf8(path));
  return {{"point", point.facts.sequence},
          {"started", utc_text(point.facts.started)},
          {"guard", guard_name(point.facts.guard)},
          {"evidence", std::move(evidence)},
          {"examples", std::move(examples)},
          {"unread", point.unread.empty() ? Json(nullptr) : Json(to_utf8(point.unread))}};
}

}  // namespace

std::string guard_document(const std::string& job, const std::vector<GuardLook>& looks) {
  Json json = document("guard");
  json["job"] = to_utf8(job);
  json["destinations"] = Json::array();
  for (const GuardLook& look : looks) {
    Json points = Json::array();
    for (const DoubtedPoint& point : look.points) points.push_back(doubted_json(point));
    json["destinations"].push_back({{"drive", to_utf8(look.drive)},
                                    {"folder", to_utf8(look.root)},
                                    {"newest-trusted", trusted_json(look.newest_trusted)},
                                    {"points", std::move(points)}});
  }
  return text_of(json);
}

std::string verdict_document(const std::string& job, const GuardVerdict& verdict, bool trusted) {
  Json json = document("guard-verdict");
  json["job"] = to_utf8(job);
  json["drive"] = to_utf8(verdict.drive);
  json["verdict"] = trusted ? "trusted" : "rejected";
  json["points"] = verdict.points;
  json["newest-trusted"] = trusted_json(verdict.newest_trusted);
  json["suspect-left"] = verdict.suspect_left;
  return text_of(json);
}

}  // namespace kestrum
