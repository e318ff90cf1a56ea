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

}  // namespace kestrum
