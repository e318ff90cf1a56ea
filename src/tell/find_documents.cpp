#include "tell/find_documents.hpp"

#include "base/text.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

static const char* after_word(AfterVersion after) {
  return after == AfterVersion::gone ? "gone" : after == AfterVersion::changed ? "changed" : "still-there";
}

// `point` and `hits` as for a single point: of the newest of the first drive.
std::string versions_document(const std::vector<LookSession>& subjects, const std::string& pattern,
                              const VersionSearch& search) {
  Json json = document("find");
  const FoundSet* newest = subjects.at(0).sets().newest();
  json["point"] = newest != nullptr ? facts_json(newest->facts()) : Json(nullptr);
  json["pattern"] = to_utf8(pattern);
  json["hits"] = Json::array();
  json["versions"] = Json::array();
  for (const FoundVersion& version : search.versions) {
    const bool there = version.after == AfterVersion::still_there;
    if (there && version.session == 0) json["hits"].push_back(entry_json(version.entry));
    Json one = entry_json(version.entry);
    one["drive"] = to_utf8(subjects[version.session].drive_name());
    one["points"] = version.points;
    one["first"] = utc_text(version.first);
    one["last"] = utc_text(version.last);
    one["after"] = after_word(version.after);
    one["since"] = there ? Json(nullptr) : Json(utc_text(version.since));
    json["versions"].push_back(std::move(one));
  }
  json["more"] = search.more;
  json["unread"] = findings_json(search.unread);
  return text_of(json);
}

std::string find_document(const SetFacts& point, const std::string& pattern, const std::vector<Entry>& hits) {
  Json json = document("find");
  json["point"] = facts_json(point);
  json["pattern"] = to_utf8(pattern);
  json["hits"] = Json::array();
  for (const Entry& entry : hits) json["hits"].push_back(entry_json(entry));
  return text_of(json);
}

}  // namespace kestrum
