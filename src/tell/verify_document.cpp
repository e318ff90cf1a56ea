// What a check found, as JSON.
#include <algorithm>

#include "base/text.hpp"
#include "tell/documents.hpp"
#include "tell/json_parts.hpp"
#include "tell/repair_document.hpp"

namespace kestrum {

static Json place_json(const BadPlace& place) {
  return {{"set", place.set},
          {"file", place.folder + "/" + place.file},
          {"from-byte", place.from},
          {"bytes", place.bytes()},
          {"whole", place.whole},
          {"read-well", place.read_well ? Json(utc_text(*place.read_well)) : Json(nullptr)},
          {"found", place.found ? Json(utc_text(*place.found)) : Json(nullptr)},
          {"files", place.files},
          {"points", place.points}};
}

// How much of what lies at a destination a check has looked at.
static Json part_json(const std::string& destination, const VerifyResult& result) {
  Json part{{"destination", to_utf8(destination)},
            {"bytes", result.bytes},
            {"left-bytes", result.left_bytes},
            {"complete", result.complete},
            {"went-on-from", result.went_on ? Json(utc_text(*result.went_on)) : Json(nullptr)},
            {"seed", result.depth == Depth::sample ? Json(result.seed) : Json(nullptr)},
            {"places", Json::array()},
            {"source", nullptr}};
  for (const BadPlace& place : result.places) part["places"].push_back(place_json(place));
  if (!result.source) return part;
  const SourceTally& source = *result.source;
  part["source"] = {{"same", source.same},     {"changed", source.changed}, {"gone", source.gone},
                    {"unread", source.unread}, {"wrong", source.wrong},     {"wrong-files", Json::array()}};
  for (const std::string& path : source.wrong_paths) {
    Json file = Json::object();
    put_path(file, "path", path);
    part["source"]["wrong-files"].push_back(std::move(file));
  }
  return part;
}

std::string verify_document(const std::vector<DriveVerdict>& verdicts) {
  Json json = document("verify");
  json["known"] = verdicts.at(0).result.known;
  json["depth"] = depth_text(verdicts.at(0).result.depth);
  json["good"] =
      std::all_of(verdicts.begin(), verdicts.end(), [](const auto& one) { return one.result.good(); });
  json["bytes"] = 0;
  json["findings"] = Json::array();
  json["points"] = Json::array();
  json["parts"] = Json::array();
  std::uint64_t bytes = 0;
  for (const DriveVerdict& verdict : verdicts) {
    const std::string& destination = verdict.drive;
    const VerifyResult& result = verdict.result;
    bytes += result.bytes;
    Json part = part_json(destination, result);
    part["mending"] = Json::array();
    for (const SetRepair& set : verdict.mending) part["mending"].push_back(mending_json(set));
    json["parts"].push_back(std::move(part));
    for (const std::string& finding : result.findings) json["findings"].push_back(to_utf8(finding));
    for (const PointVerdict& point : result.points) {
      Json one{{"point", point.sequence},
               {"destination", to_utf8(destination)},
               {"folder", point.folder},
               {"good", point.good()},
               {"unreadable", to_utf8(point.unreadable)}};
      one["findings"] = findings_json(point.findings);
      one["parity-findings"] = findings_json(point.parity);
      one["affected-files"] = point.affected_count;
      one["affected"] = Json::array();
      for (const AffectedFile& file : point.affected) {
        Json affected = Json::object();
        put_path(affected, "path", file.path);
        affected["reason"] = to_utf8(file.reason);
        affected["places"] = file.places;
        one["affected"].push_back(std::move(affected));
      }
      json["points"].push_back(std::move(one));
    }
  }
  json["bytes"] = bytes;
  return text_of(json);
}

}  // namespace kestrum
