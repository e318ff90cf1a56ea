#include "tell/repair_document.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

Json mending_json(const SetRepair& set) {
  Json one{{"point", set.facts.sequence},
           {"seals", set.seals},
           {"index", set.index},
           {"pieces-lost", set.pieces_lost},
           {"from-sets", set.from_sets},
           {"from-elsewhere", set.from_elsewhere},
           {"from-sources", set.from_sources},
           {"parity-made", set.parity_made},
           {"files", Json::array()}};
  for (const MendedFile& file : set.files)
    one["files"].push_back({{"name", to_utf8(file.name)},
                            {"parity", file.has_parity},
                            {"bad-places", file.mending.lost},
                            {"mended", file.mending.mended},
                            {"whole", file.mending.whole},
                            {"trouble", to_utf8(file.trouble)}});
  return one;
}

std::string repair_document(const std::string& job, bool dry, const std::vector<RepairResult>& results) {
  Json json = document("repair");
  json["job"] = to_utf8(job);
  json["dry"] = dry;
  json["good"] =
      std::all_of(results.begin(), results.end(), [](const RepairResult& one) { return one.left.good(); });
  json["destinations"] = Json::array();
  for (const RepairResult& result : results) {
    Json one{{"destination", to_utf8(result.root)}, {"changed", result.changed},
             {"was-good", result.found.good()},     {"good", result.left.good()},
             {"files-made-anew", Json::array()},    {"sealed-anew", result.sealed_anew},
             {"not-sealed", Json::array()},         {"sets", Json::array()},
             {"affected-files", Json::array()}};
    for (const std::string& file : result.identities) one["files-made-anew"].push_back(to_utf8(file));
    for (const std::string& line : result.not_sealed) one["not-sealed"].push_back(to_utf8(line));
    for (const SetRepair& set : result.sets) one["sets"].push_back(mending_json(set));
    for (const PointVerdict& verdict : result.left.points) {
      if (verdict.affected_count > 0)
        one["affected-files"].push_back({{"point", verdict.sequence}, {"files", verdict.affected_count}});
    }
    json["destinations"].push_back(std::move(one));
  }
  return text_of(json);
}

}  // namespace kestrum
