#include "base/text.hpp"
#include "plan/plan_words.hpp"
#include "tell/documents.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {
namespace {

Json plan_json(const PruneOutcome& outcome) {
  Json points = Json::array();
  for (std::size_t i = 0; i < outcome.sets.size(); ++i) {
    const SetFacts& facts = outcome.sets[i].facts;
    const SetFate& fate = outcome.plan.fates[i];
    points.push_back(
        {{"point", facts.sequence},
         {"kind", kind_name(facts.kind)},
         {"started", utc_text(facts.started)},
         {"stored-bytes", facts.totals.stored_bytes},
         {"good", outcome.sets[i].good},
         {"fate", fate_name(fate.fate)},
         {"into", fate.fate == Fate::folds ? Json(fate.into) : Json(nullptr)},
         {"reason", fate_reason_text(outcome.plan, fate)},
         {"broken-promise",
          fate.overridden ? Json(promise_text(fate.promise, outcome.plan.rules)) : Json(nullptr)}});
  }
  return points;
}

}  // namespace

std::string prune_document(const std::string& job, const std::vector<PruneOutcome>& outcomes) {
  Json json = document("prune");
  json["job"] = to_utf8(job);
  Json drives = Json::array();
  for (const PruneOutcome& outcome : outcomes) {
    Json broken = Json::array();
    for (const BrokenPromise& one : outcome.plan.broken)
      broken.push_back(broken_text(outcome.plan.rules, one));
    Json drive{
        {"destination", to_utf8(outcome.destination)},
        {"folder", to_utf8(outcome.root)},
        {"rules", outcome.rules},
        {"held", outcome.plan.held == Hold::nothing ? Json(nullptr) : Json(hold_text(outcome.plan.held))},
        {"points", plan_json(outcome)},
        {"broken-promises", broken},
        {"frees-bytes", outcome.plan.frees},
        {"points-left", outcome.plan.points_left},
        {"done", nullptr}};
    if (outcome.done) {
      const UpkeepResult& done = *outcome.done;
      drive["done"] = {{"removed", done.removed},
                       {"folded", done.folded},
                       {"freed-bytes", done.freed_bytes},
                       {"stored-bytes", done.job_bytes},
                       {"points-left", done.points_left},
                       {"over-limit-bytes", done.rounds.back().excess},
                       {"not-folded", done.unfolded.empty() ? Json(nullptr) : Json(done.unfolded)}};
    }
    drive["free-bytes"] = outcome.space.free;
    drive["total-bytes"] = outcome.space.total;
    drives.push_back(std::move(drive));
  }
  json["destinations"] = drives;
  return text_of(json);
}

namespace {

Json said_json(const PointSaid& point) {
  return {{"drive", to_utf8(point.drive)},       {"folder", to_utf8(point.root)},
          {"point", point.facts.sequence},       {"started", utc_text(point.facts.started)},
          {"health", health_text(point.health)}, {"standing", standing_json(point.facts.standing)},
          {"standing-proved", point.proved}};
}

}  // namespace

std::string said_document(const std::string& job, const std::vector<PointSaid>& said) {
  Json json = document("kept-points");
  json["job"] = to_utf8(job);
  json["points"] = Json::array();
  for (const PointSaid& one : said) json["points"].push_back(said_json(one));
  return text_of(json);
}

std::string kept_document(const std::string& job, const KeptOutcome& outcome) {
  Json json = document("keep");
  json["job"] = to_utf8(job);
  json.update(said_json(outcome.now));
  json["changed"] = outcome.changed;
  return text_of(json);
}

std::string drop_document(const std::string& job, const DropOutlook& look, const DropOutcome* done) {
  Json json = document("drop");
  json["job"] = to_utf8(job);
  json.update(said_json(look.point));
  json["fate"] = fate_name(look.fate.fate);
  json["into"] = look.fate.fate == Fate::folds ? Json(look.fate.into) : Json(nullptr);
  json["stays-because"] = look.why_stays.empty() ? Json(nullptr) : Json(look.why_stays);
  json["wanted-by"] = look.wanted_by.empty() ? Json(nullptr) : Json(look.wanted_by);
  json["good-points-left"] = look.good_left;
  json["done"] = nullptr;
  if (done == nullptr) return text_of(json);
  json["done"] = {{"gone", done->gone},
                  {"freed-bytes", done->done.freed_bytes},
                  {"not-folded", done->done.unfolded.empty() ? Json(nullptr) : Json(done->done.unfolded)}};
  return text_of(json);
}

std::string drop_gone_document(const std::string& job, const KnownPoint& gone) {
  Json json = document("drop");
  json["job"] = to_utf8(job);
  json["missed"] = {{"point", gone.sequence},
                    {"started", utc_text(gone.started)},
                    {"files", gone.files},
                    {"bytes", gone.bytes}};
  return text_of(json);
}

std::string fold_document(const std::string& job, const std::vector<FoldOutcome>& outcomes) {
  Json json = document("fold");
  json["job"] = to_utf8(job);
  Json drives = Json::array();
  for (const FoldOutcome& outcome : outcomes) {
    Json batches = Json::array();
    for (const FoldPlan& plan : outcome.batches) {
      batches.push_back({{"points", plan.sets},
                         {"into", plan.last},
                         {"stored-bytes", plan.stored_bytes},
                         {"kept-bytes", plan.kept_bytes},
                         {"copied-bytes", plan.copied_bytes},
                         {"needed-bytes", plan.needed_bytes()}});
    }
    drives.push_back({{"destination", to_utf8(outcome.destination)},
                      {"folder", to_utf8(outcome.root)},
                      {"batches", batches},
                      {"points-gone", outcome.points_gone},
                      {"stored-bytes-before", outcome.bytes_before},
                      {"stored-bytes-after", outcome.bytes_after}});
  }
  json["destinations"] = drives;
  return text_of(json);
}

}  // namespace kestrum
