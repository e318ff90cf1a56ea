#include "tell/version_documents.hpp"

#include "base/text.hpp"
#include "tell/version_json.hpp"

namespace kestrum {

std::string versions_document(const std::vector<LookSession>& subjects, const std::string& wanted,
                              const std::vector<FileHistory>& histories, std::uint64_t more,
                              DiskToday& disk) {
  Json json = document("versions");
  json["wanted"] = to_utf8(wanted);
  json["files"] = Json::array();
  std::uint64_t pages = 0;
  for (const FileHistory& history : histories) {
    Json file;
    pages += history.pages_read;
    file["names"] = Json::array();
    for (const NameHistory& name : history.names) {
      Json one;
      put_path(one, "path", name.path.absolute());
      one["versions"] = Json::array();
      for (const FoundVersion& version : name.versions)
        one["versions"].push_back(version_json(subjects, version, disk.look(version.entry)));
      one["moved-from"] = name.moved_from ? Json(to_utf8(name.moved_from->absolute())) : Json(nullptr);
      one["moved-to"] = name.moved_to ? Json(to_utf8(name.moved_to->absolute())) : Json(nullptr);
      file["names"].push_back(std::move(one));
    }
    json["files"].push_back(std::move(file));
  }
  json["more"] = more;
  json["points-looked-through"] = histories.empty() ? 0 : histories.front().points;
  json["pages-read"] = pages;
  json["unread"] = findings_json(histories.empty() ? std::vector<std::string>{} : histories.front().unread);
  return text_of(json);
}

}  // namespace kestrum
