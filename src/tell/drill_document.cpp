// A rehearsed restore as JSON: docs/JSON.md.
#include "base/text.hpp"
#include "tell/drill_words.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {
namespace {

const char* state_word(DrilledFile::State state) {
  return state == DrilledFile::State::good      ? "good"
         : state == DrilledFile::State::missing ? "missing"
                                                : "different";
}

const char* source_word(DrilledFile::Source source) {
  switch (source) {
    case DrilledFile::Source::same:
      return "same";
    case DrilledFile::Source::changed:
      return "changed";
    case DrilledFile::Source::differs:
      return "differs";
    case DrilledFile::Source::unknown:
      break;
  }
  return "unknown";
}

Json opening_json(const Opening& opening) {
  if (opening.how == Opening::How::unknown) return nullptr;
  return {{"as", opening.as},
          {"opens", opening.how == Opening::How::opens},
          {"tried", opening.how != Opening::How::no_program},
          {"program", opening.program},
          {"why", to_utf8(opening.why)}};
}

}  // namespace

std::string drill_document(const DrillResult& result, const DrillEntry& entry) {
  Json json = document("drill");
  json["job"] = to_utf8(entry.job);
  json["drive"] = to_utf8(entry.drive);
  json["point"] = facts_json(result.point);
  json["good"] = result.good();
  json["sentence"] = drill_sentence(entry);
  json["seed"] = result.seed;
  json["sample-files"] = result.files.size();
  json["sample-bytes"] = result.bytes;
  json["all-files"] = result.all_files;
  json["all-bytes"] = result.all_bytes;
  json["seconds"] = result.seconds;
  json["all-seconds"] = result.all_seconds;
  json["kept-in"] = result.kept_in.empty() ? Json(nullptr) : Json(to_utf8(result.kept_in));
  json["troubles"] = Json::array();
  for (const std::string& trouble : result.troubles) json["troubles"].push_back(to_utf8(trouble));
  json["trials"] = Json::array();
  for (const RebuildTrial& trial : result.trials)
    json["trials"].push_back({{"what", trial.what}, {"good", trial.good}, {"words", to_utf8(trial.words)}});
  json["files"] = Json::array();
  for (const DrilledFile& file : result.files) {
    Json one = Json::object();
    put_path(one, "path", file.path);
    one["bytes"] = file.size;
    one["always"] = file.wanted;
    one["state"] = state_word(file.state);
    one["why"] = to_utf8(file.why);
    one["on-disk"] = source_word(file.source);
    one["opening"] = opening_json(file.opening);
    json["files"].push_back(std::move(one));
  }
  return text_of(json);
}

}  // namespace kestrum
