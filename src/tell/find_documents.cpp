#include "tell/find_documents.hpp"

#include "base/text.hpp"
#include "tell/version_json.hpp"

namespace kestrum {
// `point` and `hits` as for a single point: of the newest of the first drive.
std::string find_everywhere_document(const std::vector<LookSession>& subjects, const std::string& pattern,
                                     const std::vector<ListedVersion>& versions, std::uint64_t more,
                                     const VersionSearch& search) {
  Json json = document("find");
  const FoundSet* newest = subjects.at(0).sets().newest();
  json["point"] = newest != nullptr ? facts_json(newest->facts()) : Json(nullptr);
  json["pattern"] = to_utf8(pattern);
  json["hits"] = Json::array();
  json["versions"] = Json::array();
  for (const ListedVersion& listed : versions) {
    const bool there = listed.version.after == AfterVersion::still_there;
    if (there && listed.version.session == 0) json["hits"].push_back(entry_json(listed.version.entry));
    json["versions"].push_back(version_json(subjects, listed.version, listed.today));
  }
  json["more"] = more;
  json["unread"] = findings_json(search.unread);
  return text_of(json);
}

std::string find_document(const SetFacts& point, const std::string& pattern,
                          const std::vector<ListedVersion>& hits, std::uint64_t more) {
  Json json = document("find");
  json["point"] = facts_json(point);
  json["pattern"] = to_utf8(pattern);
  json["hits"] = Json::array();
  for (const ListedVersion& hit : hits) {
    Json one = entry_json(hit.version.entry);
    one["today"] = today_word(hit.today);
    json["hits"].push_back(std::move(one));
  }
  json["more"] = more;
  return text_of(json);
}

}  // namespace kestrum
