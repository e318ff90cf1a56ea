#include "tell/telling_documents.hpp"

#include "base/text.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

std::string told_document(const TellDone& done) {
  Json json = document("told");
  json["mails"] = Json::array();
  for (const TellEvent& event : done.events)
    json["mails"].push_back(
        {{"to", event.to},
         {"subject", to_utf8(event.subject)},
         {"sent", event.trouble.empty()},
         {"answer", event.said.empty() ? Json(nullptr) : Json(to_utf8(event.said))},
         {"trouble", event.trouble.empty() ? Json(nullptr) : Json(to_utf8(event.trouble))}});
  json["trouble"] = done.trouble.empty() ? Json(nullptr) : Json(to_utf8(done.trouble));
  json["pages"] = findings_json(done.pages);
  return text_of(json);
}

}  // namespace kestrum
