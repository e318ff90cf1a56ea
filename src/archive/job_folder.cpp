#include "archive/job_folder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "archive/seal_json.hpp"
#include "archive/set_folder.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

// One section, no key; nothing when there is no such file.
std::optional<JsonElement> read_plain(const Store& store, const std::string& path, const char* section) {
  std::optional<Bytes> bytes = store.try_read_all(path, limits::identity_file);
  if (!bytes) return std::nullopt;
  std::string what = store.describe(path);
  CheckedJson file = read_checked_json(std::move(*bytes), {section}, false, what);
  return parse_json(file.text(0), what);
}

// `2027-03-02_20-30` of the local time.
std::string local_stamp(Instant when, std::int32_t offset_seconds) {
  std::string text = utc_text({when.seconds + offset_seconds, 0});
  return text.substr(0, 10) + "_" + text.substr(11, 2) + "-" + text.substr(14, 2);
}

}  // namespace

std::string in_folder(const std::string& folder, const std::string& name) {
  return folder.empty() ? name : folder + "/" + name;
}

std::optional<DriveIdentity> read_drive(const Store& store) {
  std::optional<JsonElement> json = read_plain(store, drive_name, "drive");
  if (!json) return std::nullopt;
  const std::string what = store.describe(drive_name);
  JsonObject object(*json, what);
  check_format(object);
  DriveIdentity drive;
  drive.id = object.hex_array<16>("id");
  drive.name = object.text("name");
  drive.created = object.instant("created");
  drive.filesystem = object.text("filesystem");
  drive.simulated = object.boolean("simulated");
  return drive;
}

static std::string drive_text(const DriveIdentity& drive) {
  Json json{{"format", 1},
            {"id", to_hex(drive.id)},
            {"name", to_utf8(drive.name)},
            {"created", utc_text(drive.created)},
            {"filesystem", drive.filesystem},
            {"simulated", drive.simulated}};
  return write_checked_json({{"drive", json.dump()}}, {});
}

void write_drive(Store& store, const DriveIdentity& drive) {
  store.put(drive_name, as_bytes(drive_text(drive)));
}

bool create_drive(Store& store, const DriveIdentity& drive) {
  if (!store.create_exclusive(drive_name, as_bytes(drive_text(drive)))) return false;
  flush_names(store, "", "4: name of drive.json");
  return true;
}

std::optional<JobIdentity> read_job_identity(const Store& store, const std::string& folder) {
  std::string path = in_folder(folder, job_identity_name);
  std::optional<JsonElement> json = read_plain(store, path, "job");
  if (!json) return std::nullopt;
  const std::string what = store.describe(path);
  JsonObject object(*json, what);
  check_format(object);
  JobIdentity job{object.hex_array<16>("job"), object.text("machine"), object.text("name"),
                  object.instant("created")};
  // Not there in those of before.
  if (object.has("machine-id") && !object.is_null("machine-id"))
    job.machine_id = object.hex_array<16>("machine-id");
  if (object.has("unremembered")) {
    const JsonObject left(object.at("unremembered"), what);
    job.unremembered = {left.hex_array<16>("home"), static_cast<Sequence>(left.number("point", INT32_MAX))};
  }
  return job;
}

static std::string job_text(const JobIdentity& job) {
  Json json{{"format", 1},
            {"job", to_hex(job.job)},
            {"machine", to_utf8(job.machine)},
            {"name", to_utf8(job.name)},
            {"created", utc_text(job.created)},
            {"machine-id", job.machine_id == Id{} ? Json(nullptr) : Json(to_hex(job.machine_id))}};
  if (job.unremembered.point != 0)
    json["unremembered"] = {{"home", to_hex(job.unremembered.home)}, {"point", job.unremembered.point}};
  return write_checked_json({{"job", json.dump()}}, {});
}

void write_job_identity(Store& store, const std::string& folder, const JobIdentity& job) {
  store.put(in_folder(folder, job_identity_name), as_bytes(job_text(job)));
}

bool create_job_identity(Store& store, const std::string& folder, const JobIdentity& job) {
  if (!store.create_exclusive(in_folder(folder, job_identity_name), as_bytes(job_text(job)))) return false;
  flush_names(store, folder, "2: name of a small file");
  return true;
}

std::string safe_folder_name(std::string_view name) {
  std::string out;
  for (char c : name) {
    bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' ||
                 c == '_' || (c == '.' && !out.empty());
    out += plain ? c : '-';
  }
  if (out.size() > 100) out.resize(100);
  while (!out.empty() && out.back() == '.') out.back() = '-';
  return out.empty() ? "-" : out;
}

std::string set_folder_name(Sequence sequence, Instant started, std::int32_t offset_seconds, Kind kind,
                            std::optional<Sequence> folded_from) {
  std::string name =
      fmt::format("{:06}_{}_{}", sequence, local_stamp(started, offset_seconds), kind_name(kind));
  return folded_from ? name + fmt::format("_from-{:06}", *folded_from) : name;
}

// What set_folder_name gives, from the stamp on.
static bool named_by_rule(std::string_view rest) {
  constexpr std::string_view stamp = "dddd-dd-dd_dd-dd_";
  if (rest.size() < stamp.size()) return false;
  auto digit = [](char c) { return c >= '0' && c <= '9'; };
  for (std::size_t i = 0; i < stamp.size(); ++i) {
    if (stamp[i] == 'd' ? !digit(rest[i]) : rest[i] != stamp[i]) return false;
  }
  rest.remove_prefix(stamp.size());
  for (std::string_view mark : {unfinished_mark, removing_mark}) {
    if (rest.ends_with(mark)) rest.remove_suffix(mark.size());
  }
  constexpr std::string_view from = "_from-";
  if (std::size_t at = rest.find(from); at != std::string_view::npos) {
    std::string_view first = rest.substr(at + from.size());
    if (first.size() < 6 || !std::all_of(first.begin(), first.end(), digit)) return false;
    rest = rest.substr(0, at);
  }
  return parse_kind(rest).has_value();
}

std::optional<SetFolder> parse_set_folder(const std::string& job_folder, const std::string& name) {
  std::size_t end = name.find('_');
  if (end == std::string::npos || end < 6) return std::nullopt;
  Sequence sequence = 0;
  auto [last, code] = std::from_chars(name.data(), name.data() + end, sequence);
  if (code != std::errc() || last != name.data() + end || sequence == 0) return std::nullopt;
  return SetFolder{name,
                   in_folder(job_folder, name),
                   sequence,
                   name.ends_with(unfinished_mark),
                   name.ends_with(removing_mark),
                   named_by_rule(std::string_view(name).substr(end + 1))};
}

std::vector<SetFolder> list_set_folders(const Store& store, const std::string& job_folder,
                                        std::vector<std::string>* others) {
  std::vector<StoreEntry> entries = store.list(job_folder);
  std::vector<SetFolder> folders;
  folders.reserve(entries.size());
  for (const StoreEntry& entry : entries) {
    if (!entry.folder) continue;
    std::optional<SetFolder> folder = parse_set_folder(job_folder, entry.name);
    if (!folder) {
      if (others != nullptr) others->push_back(entry.name);
      continue;
    }
    if (!store.traits().renames) {
      folder->unfinished = folder->unfinished || store.exists(folder->path + "/" + unfinished_file);
      folder->removing = folder->removing || store.exists(folder->path + "/" + removing_file);
    }
    folders.push_back(std::move(*folder));
  }
  // By name they are in order already, up to set 999999.
  auto earlier = [](const SetFolder& a, const SetFolder& b) { return a.sequence < b.sequence; };
  if (!std::is_sorted(folders.begin(), folders.end(), earlier))
    std::stable_sort(folders.begin(), folders.end(), earlier);
  return folders;
}

}  // namespace kestrum
