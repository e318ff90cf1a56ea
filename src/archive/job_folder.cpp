#include "archive/job_folder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "archive/seal_json.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

std::string in_folder(const std::string& folder, const std::string& name) {
  return folder.empty() ? name : folder + "/" + name;
}

// One section, no key.
Json read_plain(const Store& store, const std::string& path, const std::string& section) {
  std::string what = store.describe(path);
  CheckedJson file = read_checked_json(store.read_all(path, limits::identity_file), {section}, false, what);
  return parse_json(file.sections[0].text, what);
}

// `2027-03-02_20-30` of the local time.
std::string local_stamp(Instant when, std::int32_t offset_seconds) {
  std::string text = utc_text({when.seconds + offset_seconds, 0});
  return text.substr(0, 10) + "_" + text.substr(11, 2) + "-" + text.substr(14, 2);
}

}  // namespace

std::optional<DriveIdentity> read_drive(const Store& store) {
  if (!store.exists(drive_name)) return std::nullopt;
  Json json = read_plain(store, drive_name, "drive");
  JsonObject object(json, store.describe(drive_name));
  check_format(object);
  DriveIdentity drive;
  drive.id = object.hex_array<16>("id");
  drive.name = object.text("name");
  drive.created = object.instant("created");
  drive.filesystem = object.text("filesystem");
  if (!object.at("simulated").is_boolean()) object.broken();
  drive.simulated = object.at("simulated").get<bool>();
  return drive;
}

void write_drive(Store& store, const DriveIdentity& drive) {
  Json json{{"format", 1},
            {"id", to_hex(drive.id)},
            {"name", to_utf8(drive.name)},
            {"created", utc_text(drive.created)},
            {"filesystem", drive.filesystem},
            {"simulated", drive.simulated}};
  store.write_whole(drive_name, as_bytes(write_checked_json({{"drive", json.dump()}}, {})));
}

std::optional<JobIdentity> read_job_identity(const Store& store, const std::string& folder) {
  std::string path = in_folder(folder, job_identity_name);
  if (!store.exists(path)) return std::nullopt;
  Json json = read_plain(store, path, "job");
  JsonObject object(json, store.describe(path));
  check_format(object);
  return JobIdentity{object.hex_array<16>("job"), object.text("machine"), object.text("name"),
                     object.instant("created")};
}

void write_job_identity(Store& store, const std::string& folder, const JobIdentity& job) {
  Json json{{"format", 1},
            {"job", to_hex(job.job)},
            {"machine", to_utf8(job.machine)},
            {"name", to_utf8(job.name)},
            {"created", utc_text(job.created)}};
  store.write_whole(in_folder(folder, job_identity_name),
                    as_bytes(write_checked_json({{"job", json.dump()}}, {})));
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

std::optional<SetFolder> parse_set_folder(const std::string& job_folder, const std::string& name) {
  SetFolder folder{name, in_folder(job_folder, name), 0, name.ends_with(unfinished_mark),
                   name.ends_with(removing_mark)};
  std::size_t end = name.find('_');
  if (end == std::string::npos || end < 6) return std::nullopt;
  auto [last, code] = std::from_chars(name.data(), name.data() + end, folder.sequence);
  if (code != std::errc() || last != name.data() + end || folder.sequence == 0) return std::nullopt;
  return folder;
}

std::vector<SetFolder> list_set_folders(const Store& store, const std::string& job_folder) {
  std::vector<SetFolder> folders;
  for (const StoreEntry& entry : store.list(job_folder)) {
    if (!entry.folder) continue;
    if (std::optional<SetFolder> folder = parse_set_folder(job_folder, entry.name))
      folders.push_back(*folder);
  }
  std::stable_sort(folders.begin(), folders.end(),
                   [](const auto& a, const auto& b) { return a.sequence < b.sequence; });
  return folders;
}

FoundSet read_set(const Store& store, const SetFolder& folder, const Id& job) {
  FoundSet found;
  found.folder = folder;
  if (folder.removing) return found;
  bool any_missing = false;
  Bytes first_bytes;
  for (const char* name : {seal_name, seal_copy_name}) {
    std::string path = folder.path + "/" + name;
    try {
      if (!store.exists(path)) {
        any_missing = true;
        continue;
      }
      Bytes bytes = store.read_all(path, limits::seal_file);
      Seal seal = decode_seal(bytes, store.describe(path));
      if (seal.core.job != job) {
        found.findings.push_back(store.describe(path) + " belongs to another job");
      } else if (seal.core.facts.sequence != folder.sequence) {
        found.findings.push_back(store.describe(path) + " belongs to another set");
      } else if (!found.seal) {
        found.seal = std::move(seal);
        first_bytes = std::move(bytes);
      } else if (bytes != first_bytes) {
        // A rewrite that was interrupted leaves a newer generation in one of them; anything else is damage.
        bool newer = seal.generation > found.seal->generation;
        if (seal.generation == found.seal->generation)
          found.findings.push_back(store.describe(path) + " is not the same as its twin");
        found.twin = std::move(seal);
        if (newer) std::swap(found.seal, found.twin);
      }
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::damage) {
        found.findings.emplace_back(error.what());
      } else {
        found.refusal = error;
      }
    }
  }
  if (found.seal) found.refusal.reset();
  // A missing copy beside a valid seal is what a run killed at the very end leaves; beside a broken one it is
  // damage.
  if (any_missing && found.seal && !folder.unfinished_name) {
    found.findings.push_back("one of the two seals in " + store.describe(folder.path) + " is missing");
  }
  if (!found.seal && !folder.unfinished_name && found.findings.empty() && !found.refusal) {
    found.findings.push_back(store.describe(folder.path) + " has no seal");
  }
  return found;
}

namespace {

// A folded set takes the place of what it covers.
bool supersedes(const SetFacts& folded, const SetFacts& other) {
  bool wider = folded.covers_from() < other.covers_from() || folded.sequence > other.sequence;
  return folded.folded_from && folded.chain == other.chain && folded.covers_from() <= other.covers_from() &&
         other.sequence <= folded.sequence && wider;
}

void supersede(std::vector<FoundSet>& sets) {
  for (FoundSet& folded : sets) {
    if (!folded.seal || !folded.seal->core.facts.folded_from) continue;
    const SetFacts& facts = folded.seal->core.facts;
    for (FoundSet& other : sets) {
      if (&other == &folded) continue;
      const Seal* seal = other.seal ? &*other.seal : other.superseded ? &*other.superseded : nullptr;
      if (seal != nullptr && !supersedes(facts, seal->core.facts)) continue;
      // Without a seal: what the finishing of the fold has left.
      bool in_range = facts.covers_from() <= other.folder.sequence && other.folder.sequence <= facts.sequence;
      if (seal == nullptr && (!in_range || !other.folder.removing)) continue;
      folded.covered.push_back(other.folder);
      if (!other.seal) continue;
      other.superseded = std::move(other.seal);
      other.seal.reset();
      other.findings.clear();
    }
  }
}

}  // namespace

std::vector<FoundSet> read_sets(const Store& store, const std::string& job_folder, const Id& job) {
  std::vector<FoundSet> sets;
  for (const SetFolder& folder : list_set_folders(store, job_folder))
    sets.push_back(read_set(store, folder, job));
  supersede(sets);
  for (std::size_t i = 0; i < sets.size(); ++i) {
    for (std::size_t j = 0; j < i && sets[i].seal; ++j) {
      if (!sets[j].seal || sets[j].folder.sequence != sets[i].folder.sequence) continue;
      sets[i].findings.push_back("the set in " + store.describe(sets[i].folder.path) + " is there twice");
      sets[i].seal.reset();
    }
  }
  return sets;
}

std::string locate_file(const Store& store, const FoundSet& set, const SealedFile& file) {
  std::string own = set.folder.path + "/" + file.name;
  if (set.covered.empty() || file.set == set.seal->core.facts.set || store.exists(own)) return own;
  for (const SetFolder& covered : set.covered) {
    for (const StoreEntry& entry : store.list(covered.path)) {
      if (entry.folder || entry.size != file.size || !entry.name.ends_with(volume_ending)) continue;
      std::string path = covered.path + "/" + entry.name;
      try {
        Bytes bytes(FileHeader::size);
        store.open(path)->read_at(0, bytes);
        FileHeader header = FileHeader::decode(bytes, store.describe(path));
        if (header.set == file.set && header.number == file.number) return path;
      } catch (const Error&) {
        continue;  // not this one
      }
    }
  }
  return own;
}

void finish_fold(Store& store, const FoundSet& folded) {
  // The old sets end here: nothing reads them any more, whether or not the rest is reached.
  FoundSet set = folded;
  for (SetFolder& folder : set.covered) {
    if (!folder.removing) {
      std::string plain = folder.path;
      if (folder.unfinished_name) plain.resize(plain.size() - unfinished_mark.size());
      store.rename(folder.path, plain + std::string(removing_mark));
      folder.path = plain + std::string(removing_mark);
      folder.removing = true;
    }
    for (const char* name : {seal_name, seal_copy_name, open_name}) {
      std::string path = folder.path + "/" + name;
      if (store.exists(path)) store.remove(path);
    }
    store.flush_folder(folder.path);
  }
  for (const SealedFile& file : set.seal->core.files) {
    std::string own = set.folder.path + "/" + file.name;
    std::string at = locate_file(store, set, file);
    if (at != own) store.rename(at, own);
  }
  store.flush_folder(set.folder.path);
  for (const SetFolder& folder : set.covered) remove_set_folder(store, folder);
}

void remove_set_folder(Store& store, const SetFolder& folder) {
  std::string path = folder.path;
  if (!folder.removing) {
    std::string base = folder.unfinished_name ? path.substr(0, path.size() - unfinished_mark.size()) : path;
    std::string marked = base + std::string(removing_mark);
    store.rename(path, marked);
    path = marked;
  }
  for (const char* first : {seal_name, seal_copy_name, open_name}) {
    std::string name = path + "/" + first;
    if (store.exists(name)) store.remove(name);
  }
  store.flush_folder(path);
  for (const StoreEntry& entry : store.list(path)) {
    if (!entry.folder) store.remove(path + "/" + entry.name);
  }
  store.remove_folder(path);
}

}  // namespace kestrum
