#include "tell/compare_documents.hpp"

#include "base/text.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {
namespace {

Json head(const SetFacts& a, const SetFacts* b, const TreePath& path) {
  Json json = document("compare");
  put_path(json, "path", path.absolute());
  json["from"] = facts_json(a);
  json["to"] = b != nullptr ? facts_json(*b) : Json("now");
  return json;
}

Json side_json(const FileSide& side) {
  if (!side.there) return nullptr;
  return {{"type", entry_type_name(side.type)},
          {"size", side.size},
          {"modified", utc_text(side.modified)},
          {"sha256", side.sha256.empty() ? Json(nullptr) : Json(side.sha256)}};
}

}  // namespace

std::string tree_comparison_document(const SetFacts& a, const SetFacts* b, const TreePath& path,
                                     const TreeComparison& result, const std::vector<TreeChange>& changes,
                                     std::uint64_t more) {
  Json json = head(a, b, path);
  json["files"] = Json::object();
  for (const Differs how :
       {Differs::added, Differs::gone, Differs::changed, Differs::moved, Differs::attributes}) {
    const auto count = result.files.find(how);
    json["files"][std::string(change_word(how))] = count == result.files.end() ? 0 : count->second;
  }
  json["folders"] = result.folders;
  json["bytes"] = {
      {"new", result.bytes_added}, {"gone", result.bytes_gone}, {"changed", result.bytes_changed}};
  json["changes"] = Json::array();
  for (const TreeChange& change : changes) {
    Json one = entry_json(change.entry);
    one["change"] = change_word(change.how);
    one["before"] = change.before ? entry_json(*change.before) : Json(nullptr);
    if (change.how == Differs::attributes) one["attributes"] = change.attributes;
    if (change.how == Differs::moved) one["with-folder"] = change.with_folder;
    json["changes"].push_back(std::move(one));
  }
  json["more"] = more;
  json["findings"] = findings_json(result.findings);
  json["problems"] = problems_json(result.problems);
  return text_of(json);
}

std::string file_comparison_document(const SetFacts& a, const SetFacts* b, const TreePath& path,
                                     const FileComparison& result) {
  Json json = head(a, b, path);
  json["before"] = side_json(result.before);
  json["now"] = side_json(result.now);
  json["same"] = result.same;
  json["text"] = result.text;
  json["lines"] = Json::array();
  for (const ChangedLine& line : result.lines) {
    const char* how = line.how == ChangedLine::How::same      ? "same"
                      : line.how == ChangedLine::How::removed ? "removed"
                                                              : "added";
    json["lines"].push_back({{"line", how},
                             {"before", line.before > 0 ? Json(line.before) : Json(nullptr)},
                             {"now", line.now > 0 ? Json(line.now) : Json(nullptr)},
                             {"text", to_utf8(line.text)}});
  }
  return text_of(json);
}

}  // namespace kestrum
