#include "base/text.hpp"
#include "job/job_keys.hpp"
#include "plan/keep_plan.hpp"
#include "plan/plan_words.hpp"
#include "tell/documents.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {
namespace {

Json job_json(const Job& job) {
  Json json{{"name", job.name}, {"file", to_utf8(job.file)}};
  json["what"] = {{"folders", job.what.folders}, {"skip", job.what.skip}};
  json["where"] = {{"destinations", job.destinations}};
  Json runs = Json::array();
  for (const Phrase& phrase : job.runs) runs.push_back(phrase.text());
  json["when"] = {{"runs", runs}, {"if-missed", job.catch_up ? "catch up" : "skip"}};
  json["how"] = {{"kind", kind_name(job.kind)},
                 {"renew", job.renew.never() ? std::string("never") : join(job.renew.texts(), ", ")},
                 {"compression", job.compression},
                 {"volume-size", job.volume_bytes}};
  json["protect"] = {{"encryption", job.encryption == Encryption::none ? "none" : "aes-256-gcm"},
                     {"passphrase", job.passphrase},
                     {"recovery-key", Json::array()}};
  for (const std::string& file : job.recovery_keys) json["protect"]["recovery-key"].push_back(to_utf8(file));
  const char* const checked = job.after_run == AfterRun::nothing     ? "nothing"
                              : job.after_run == AfterRun::read_back ? "read back"
                                                                     : "read back all";
  json["check"] = {{"after-run", checked}};
  // What holds, whether it was given or is usual.
  json["rules-in-force"] = keep_lines(acting_rules(job.keep), job.renew.never());
  json["what"]["description"] = job.what.description.empty() ? Json(nullptr) : Json(job.what.description);
  // The others as they were given, null where the usual holds.
  for (const JobKey& key : job_keys()) {
    Json& place = json[key.table][key.key];
    if (place.is_null()) place = value_json(key, job.given);
  }
  return json;
}

}  // namespace

std::string job_document(const Job& job) {
  Json json = document("job");
  json["job"] = job_json(job);
  return text_of(json);
}

std::string edited_document(const Job& job, const std::vector<std::string>& meaning) {
  Json json = document("job-edited");
  json["job"] = job_json(job);
  json["meaning"] = meaning;
  return text_of(json);
}

std::string recovery_document(const std::string& secret_file, const std::string& public_file) {
  Json json = document("recovery-key");
  json["secret-file"] = to_utf8(secret_file);
  json["public-file"] = to_utf8(public_file);
  return text_of(json);
}

std::string jobs_document(const std::vector<Job>& jobs, const std::vector<std::string>& broken) {
  Json json = document("jobs");
  json["jobs"] = Json::array();
  for (const Job& job : jobs) json["jobs"].push_back(job_json(job));
  json["broken"] = broken;
  return text_of(json);
}

std::string done_document(const std::string& what, const std::string& name) {
  Json json = document(what.c_str());
  json["job"] = name;
  return text_of(json);
}

}  // namespace kestrum
