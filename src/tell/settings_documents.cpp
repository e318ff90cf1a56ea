#include "tell/settings_documents.hpp"

#include "base/text.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {
namespace {

Json with_values(const char* what, const Settings& settings) {
  Json json = document(what);
  put_path(json, "file", settings.file);
  json["settings"] = values_json(settings_file_keys(), settings.given);
  return json;
}

}  // namespace

std::string settings_document(const Settings& settings) {
  return text_of(with_values("settings", settings));
}

std::string settings_check_document(const Settings& settings, const std::vector<SettingsCheck>& checks) {
  Json json = with_values("settings-check", settings);
  json["checks"] = Json::array();
  for (const SettingsCheck& check : checks)
    json["checks"].push_back(
        {{"what", to_utf8(check.what)},
         {"good", check.trouble.empty()},
         {"trouble", check.trouble.empty() ? Json(nullptr) : Json(to_utf8(check.trouble))}});
  return text_of(json);
}

}  // namespace kestrum
