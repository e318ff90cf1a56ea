#include "tell/json_parts.hpp"

#include "base/bytes.hpp"
#include "base/text.hpp"

namespace kestrum {

Json document(const char* what) {
  return {{"kestrum", what}, {"version", 1}};
}
std::string text_of(const Json& json) {
  return json.dump(2) + "\n";
}

void put_path(Json& json, const std::string& key, const std::string& path) {
  json[key] = to_utf8(path);
  if (!is_utf8(path)) json[key + "-hex"] = to_hex(as_bytes(path));
}

Json standing_json(const Standing& standing) {
  if (standing.is == Standing::Is::by_rules) return nullptr;
  return {{"is", standing.kept() ? "kept" : "given-up"},
          {"since", utc_text(standing.since)},
          {"because", standing.because.empty() ? Json(nullptr) : Json(standing.because)}};
}

Json problems_json(const std::vector<Problem>& problems) {
  Json list = Json::array();
  for (const Problem& problem : problems) {
    Json one = Json::object();
    put_path(one, "path", problem.path);
    one["operation"] = problem.operation;
    one["reason"] = to_utf8(problem.reason);
    list.push_back(std::move(one));
  }
  return list;
}

Json findings_json(const std::vector<std::string>& findings) {
  Json list = Json::array();
  for (const std::string& finding : findings) list.push_back(to_utf8(finding));
  return list;
}

Json totals_json(const SetTotals& totals) {
  return {{"files", totals.files},           {"folders", totals.folders},
          {"others", totals.others},         {"bytes", totals.bytes},
          {"new-files", totals.new_files},   {"changed-files", totals.changed_files},
          {"gone-files", totals.gone_files}, {"read-bytes", totals.read_bytes},
          {"new-bytes", totals.new_bytes},   {"stored-bytes", totals.stored_bytes}};
}

Json facts_json(const SetFacts& facts) {
  Json needs = Json::array();
  for (const SetNeed& need : facts.needs) needs.push_back(need.sequence);
  return {{"point", facts.sequence},
          {"kind", kind_name(facts.kind)},
          {"folded-from", facts.folded_from ? Json(*facts.folded_from) : Json(nullptr)},
          {"started", utc_text(facts.started)},
          {"ended", utc_text(facts.ended)},
          {"base", facts.base ? Json(*facts.base) : Json(nullptr)},
          {"needs", needs},
          {"chain", to_hex(facts.chain)},
          {"totals", totals_json(facts.totals)},
          {"problems", facts.problems}};
}

Json entry_json(const Entry& entry) {
  Json json = Json::object();
  put_path(json, "path", entry.path.absolute());
  json["type"] = entry_type_name(entry.type);
  json["size"] = entry.size;
  json["modified"] = utc_text(entry.modified);
  json["mode"] = entry.mode;
  json["owner"] = to_utf8(entry.owner_name);
  json["owner-number"] = entry.owner;
  json["group"] = to_utf8(entry.group_name);
  json["group-number"] = entry.group;
  if (entry.type == EntryType::symlink) put_path(json, "target", entry.link_target);
  if (entry.incomplete) json["incomplete"] = true;
  if (entry.carried_from) json["carried-from"] = utc_text(*entry.carried_from);
  if (entry.changed_while_read) json["changed-while-read"] = true;
  return json;
}

const char* fate_name(Fate fate) {
  return fate == Fate::goes ? "goes" : fate == Fate::folds ? "folds" : "stays";
}

}  // namespace kestrum
