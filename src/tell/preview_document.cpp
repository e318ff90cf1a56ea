#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "plan/plan_words.hpp"
#include "tell/documents.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {
namespace {

Json count_json(const FileCount& count) {
  return {{"files", count.files}, {"bytes", count.bytes}};
}

Json counts_json(const VerdictCounts& counts) {
  return {{"all", count_json(counts.all())},
          {"new", count_json(counts.added)},
          {"changed", count_json(counts.changed)},
          {"attributes", count_json(counts.attributes)},
          {"held", count_json(counts.held)}};
}

Json named_json(const std::vector<NamedCounts>& all, const char* key) {
  Json list = Json::array();
  for (const NamedCounts& one : all) {
    Json json = Json::object();
    put_path(json, key, one.name);
    FileCount sum = one.counts.all();
    json["files"] = sum.files;
    json["bytes"] = sum.bytes;
    json.update(counts_json(one.counts));
    list.push_back(std::move(json));
  }
  return list;
}

Json estimate_json(const PreviewResult& preview) {
  const SizeEstimate& estimate = preview.estimate;
  return {{"read-bytes", estimate.content_bytes},
          {"stored-bytes", estimate.stored_bytes},
          {"parity-bytes", preview.parity_bytes},
          {"least-bytes", estimate.least},
          {"most-bytes", estimate.most},
          {"sampled-bytes", estimate.sampled_bytes},
          {"whole", estimate.whole},
          {"seconds", std::chrono::duration<double>(preview.duration).count()},
          {"seconds-from", preview.duration_from_history ? "history" : "sample"}};
}

Json drive_json(const PreviewResult& preview) {
  const DriveFacts& drive = preview.drive;
  return {{"free-bytes", preview.free_bytes},
          {"total-bytes", preview.total_bytes},
          {"label", to_utf8(drive.label)},
          {"uuid", drive.uuid},
          {"file-system", drive.type},
          {"removable", drive.removable},
          {"network", drive.network},
          {"full-set-bytes", preview.full_bytes},
          {"held-by-job-bytes", preview.held_bytes},
          {"set-fits", preview.set_fits()},
          {"full-sets-needed", preview.fulls},
          {"two-full-sets-fit", preview.fulls_fit()}};
}

}  // namespace

std::string preview_document(const std::string& job, const PreviewResult& preview) {
  Json json = document("preview");
  json["job"] = job;
  json["destination"] = to_utf8(preview.destination);
  json["point"] = preview.sequence;
  json["kind"] = kind_name(preview.next.kind);
  json["reason"] = kind_reason_text(preview.next);
  json.update(counts_json(preview.all));
  json["folders"] = preview.folders;
  json["others"] = preview.others;
  json["gone-files"] = preview.gone_files;
  json["sources"] = named_json(preview.sources, "path");
  json["categories"] = named_json(preview.categories, "category");
  json["top-folders"] = named_json(preview.top_folders, "path");
  json["largest"] = Json::array();
  for (const PreviewItem& item : preview.largest) {
    Json one = Json::object();
    put_path(one, "path", item.path.absolute());
    one["bytes"] = item.size;
    one["verdict"] = verdict_word(item.verdict);
    json["largest"].push_back(std::move(one));
  }
  json["left-out"] = Json::array();
  for (const LeftOutBy& by : preview.left_out)
    json["left-out"].push_back({{"why", to_utf8(by.why)}, {"things", by.things}, {"file-bytes", by.bytes}});
  json["estimate"] = estimate_json(preview);
  json["drive"] = drive_json(preview);
  json["would-end-with"] = preview.would_fail() ? Json(exit_code_of(*preview.would_fail())) : Json(nullptr);
  json["problems"] = problems_json(preview.problems);
  json["notes"] = preview.notes;
  return text_of(json);
}

std::string why_document(const std::string& job, const std::string& path, const Explanation& explanation) {
  Json json = document("why");
  json["job"] = job;
  put_path(json, "path", path);
  json["taken"] = explanation.taken;
  json["why"] = to_utf8(explanation.text);
  return text_of(json);
}

}  // namespace kestrum
