#include "engine/tell_facts.hpp"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/exit_codes.hpp"

namespace kestrum {
namespace {

using Json = nlohmann::ordered_json;

Json json_of(const std::optional<Instant>& when) {
  return when ? Json(utc_text(*when)) : Json(nullptr);
}
std::optional<Instant> instant_of(const Json& json) {
  return json.is_string() ? parse_utc(json.get<std::string>()) : std::nullopt;
}

bool is_news(TroubleKind kind) {
  // A job that has not run yet has its first run before it; a run that was broken off is told as that; of
  // several drives one is often elsewhere, and how long that may last says [when] warn-after.
  return kind != TroubleKind::never_run && kind != TroubleKind::no_point && kind != TroubleKind::drive_away &&
         kind != TroubleKind::drive_bare && kind != TroubleKind::unfinished;
}

std::string mark_of(const JobTrouble& trouble, const JobStatus& status) {
  if (trouble.kind == TroubleKind::waits) {
    const bool one = trouble.drive.empty() && !status.drives.empty();
    return drive_mark + (one ? status.drives[0].named : trouble.drive);
  }
  std::string mark = trouble_name(trouble.kind);
  if (trouble.kind == TroubleKind::failed && status.last) {
    if (status.last->exit_code == exit_code_of(ErrorKind::no_destination))
      return drive_mark + status.last->destination;
    mark += " " + std::to_string(status.last->exit_code);
  }
  return trouble.drive.empty() ? mark : mark + ": " + trouble.drive;
}

std::vector<SeenTrouble> seen_troubles(const JobStatus& status) {
  std::vector<SeenTrouble> seen;
  for (const JobTrouble& trouble : status.troubles) {
    // Whoever is to start a run may be about to.
    constexpr std::int64_t soon = 3600;
    Instant from;
    if (trouble.kind == TroubleKind::missed) from = {trouble.when.seconds + soon, 0};
    if (trouble.kind == TroubleKind::waits) from = {trouble.when.seconds + patience_seconds, 0};
    if (trouble.kind == TroubleKind::problems && status.last && status.last->ended)
      from = {status.last->ended->seconds + patience_seconds, 0};
    seen.push_back({mark_of(trouble, status), from});
  }
  return seen;
}

}  // namespace

TellMemory load_tell_memory(const std::string& path) {
  TellMemory memory;
  try {
    constexpr std::size_t most_bytes = 1u << 20;
    const Bytes text = read_small_file(path, most_bytes);
    const Json json = Json::parse(text.begin(), text.end());
    memory.since = instant_of(json.at("since"));
    memory.run = json.at("run").get<std::int64_t>();
    memory.bad = instant_of(json.at("bad"));
    memory.digest = instant_of(json.at("digest"));
    for (const Json& one : json.at("troubles"))
      memory.troubles.push_back({one.at("mark").get<std::string>(),
                                 instant_of(one.at("told")).value_or(Instant()),
                                 one.at("times").get<unsigned>(), one.at("there").get<bool>()});
  } catch (const std::exception&) {
    return {};
  }
  return memory;
}

std::string tell_memory_text(const TellMemory& memory) {
  Json json{{"version", 1},
            {"since", json_of(memory.since)},
            {"run", memory.run},
            {"bad", json_of(memory.bad)},
            {"digest", json_of(memory.digest)},
            {"troubles", Json::array()}};
  for (const ToldTrouble& told : memory.troubles)
    json["troubles"].push_back(
        {{"mark", told.mark}, {"told", utc_text(told.told)}, {"times", told.times}, {"there", told.there}});
  return json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

void save_tell_memory(const Home& home, const std::string& path, const std::string& text) {
  home.make_folder_of(path);
  replace_file(path, as_bytes(text), 0600);
}

void drop_no_news(JobStatus& status) {
  std::erase_if(status.troubles, [](const JobTrouble& trouble) { return !is_news(trouble.kind); });
}

TellLook look_for_telling(const Job& job, const JobStatus& status, const std::vector<RunEntry>& runs,
                          Instant now) {
  TellLook look{.now = now, .on_change = runs_on_change(job), .troubles = seen_troubles(status)};
  for (const RunEntry& run : runs) {
    if (!run.ended && !run.cut_off()) continue;
    if (look.newest_run == 0 && run.sequence && run.exit_code <= exit_problems) look.good_run = run.ended;
    look.newest_run = std::max(look.newest_run, run.id);
  }
  return look;
}

}  // namespace kestrum
