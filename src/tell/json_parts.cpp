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

Json value_json(const FileKey& key, const GivenValues& given) {
  const auto found = given.find({key.table, key.key});
  if (found == given.end()) return nullptr;
  return key.list ? Json(found->second) : Json(found->second.at(0));
}

Json values_json(const FileKeys& keys, const GivenValues& given) {
  Json json = Json::object();
  for (const FileKey* key : keys) json[key->table][key->key] = value_json(*key, given);
  return json;
}

Json instant_json(const std::optional<Instant>& when) {
  return when ? Json(utc_text(*when)) : Json(nullptr);
}

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

const char* fate_name(Fate fate) {
  return fate == Fate::goes ? "goes" : fate == Fate::folds ? "folds" : "stays";
}

}  // namespace kestrum
