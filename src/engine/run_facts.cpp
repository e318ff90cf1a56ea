#include "engine/run_facts.hpp"

#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

using Json = nlohmann::ordered_json;

Json path_json(const std::string& path) {
  if (is_utf8(path)) return path;
  return {{"hex", to_hex(as_bytes(path))}};
}

std::string path_from(const Json& json) {
  if (json.is_string()) return json.get<std::string>();
  std::optional<Bytes> bytes = from_hex(json.at("hex").get<std::string>());
  if (!bytes) throw damage("a path in a run's record does not read");
  return std::string(as_text(*bytes));
}

Bytes bytes_of(const std::string& text) {
  ByteView view = as_bytes(text);
  return Bytes(view.begin(), view.end());
}

}  // namespace

Bytes encode_run_record(const RunRecord& record) {
  Json sources = Json::array();
  for (const std::string& source : record.sources) sources.push_back(path_json(source));
  Json filesystems = Json::array();
  for (const Filesystem& one : record.filesystems) {
    filesystems.push_back({{"uuid", one.uuid},
                           {"type", one.type},
                           {"source", path_json(one.source)},
                           {"mount", path_json(one.mount)}});
  }
  Json json{{"version", 1},
            {"program", record.program},
            {"sources", sources},
            {"filesystems", filesystems},
            {"kind-reason", record.kind_reason},
            {"simulated", record.simulated}};
  if (!record.evidence.empty()) {
    json["evidence"] = Json::array();
    for (const EvidenceLine& line : record.evidence) {
      Json one{{"what", evidence_name(line.what)}, {"files", line.files}};
      if (!line.ending.empty()) one["ending"] = path_json(line.ending);
      json["evidence"].push_back(std::move(one));
    }
    json["examples"] = Json::array();
    for (const std::string& path : record.examples) json["examples"].push_back(path_json(path));
  }
  return bytes_of(json.dump());
}

RunRecord decode_run_record(ByteView bytes) {
  try {
    Json json = Json::parse(bytes.begin(), bytes.end());
    RunRecord record;
    record.program = json.at("program").get<std::string>();
    for (const Json& source : json.at("sources")) record.sources.push_back(path_from(source));
    for (const Json& one : json.at("filesystems")) {
      record.filesystems.push_back({one.at("uuid").get<std::string>(), one.at("type").get<std::string>(),
                                    path_from(one.at("source")), path_from(one.at("mount"))});
    }
    record.kind_reason = json.at("kind-reason").get<std::string>();
    record.simulated = json.at("simulated").get<bool>();
    for (const Json& one : json.value("evidence", Json::array())) {
      const std::optional<Evidence> what = parse_evidence(one.at("what").get<std::string>());
      if (!what) continue;  // of a newer version
      EvidenceLine line{*what, one.at("files").get<std::uint64_t>()};
      if (one.contains("ending")) line.ending = path_from(one.at("ending"));
      record.evidence.push_back(std::move(line));
    }
    for (const Json& path : json.value("examples", Json::array())) record.examples.push_back(path_from(path));
    return record;
  } catch (const Json::exception&) {
    throw damage("a run's record does not read");
  }
}

Bytes encode_problems(const std::vector<Problem>& problems) {
  std::string out;
  for (const Problem& problem : problems) {
    Json json{{"path", path_json(problem.path)},
              {"operation", problem.operation},
              {"reason", to_utf8(problem.reason)}};
    out += json.dump() + "\n";
  }
  return bytes_of(out);
}

std::vector<Problem> decode_problems(ByteView bytes) {
  std::vector<Problem> problems;
  try {
    for (const std::string& line : split(std::string(as_text(bytes)), '\n')) {
      if (line.empty()) continue;
      const Json json = Json::parse(line);
      problems.push_back({path_from(json.at("path")), json.at("operation").get<std::string>(),
                          json.at("reason").get<std::string>()});
    }
  } catch (const Json::exception&) {
    throw damage("the problems of a run do not read");
  }
  return problems;
}

}  // namespace kestrum
