#include "tell/open_document.hpp"

#include "tell/json_parts.hpp"

namespace kestrum {

std::string open_document(const std::string& on, const std::vector<OpenedPoint>& points) {
  Json json = document("open");
  put_path(json, "on", on);
  json["points"] = Json::array();
  for (const OpenedPoint& point : points) {
    Json one = facts_json(point.facts);
    put_path(one, "folder", point.folder);
    json["points"].push_back(std::move(one));
  }
  return text_of(json);
}

}  // namespace kestrum
