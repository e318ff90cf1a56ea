#include "engine/look.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "source/pattern.hpp"
#include "source/skip_rules.hpp"

namespace kestrum {
namespace {

std::string lower(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(),
                 [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; });
  return text;
}

// Files missing or of another size, without opening anything.
void check_files(const Store& store, const FoundSet& set, PointInfo& info) {
  std::map<std::string, std::uint64_t> there;
  for (const StoreEntry& entry : store.list(set.folder.path)) there[entry.name] = entry.size;
  for (const SealedFile& file : set.seal->core.files) {
    auto found = there.find(file.name);
    // Taken over by folding, and not moved yet.
    if (found == there.end() && !set.covered.empty() && store.exists(locate_file(store, set, file))) continue;
    if (found == there.end()) {
      info.findings.push_back(set.folder.name + "/" + file.name + " is missing");
    } else if (found->second != file.size) {
      info.findings.push_back(set.folder.name + "/" + file.name + " has the wrong size");
    }
  }
}

}  // namespace

std::vector<PointInfo> judge_points(const Store& store, const std::vector<FoundSet>& sets, Ledger* ledger) {
  std::vector<PointInfo> points;
  struct Known {
    std::optional<CheckEntry> last, deep;
    bool damaged = false;
    std::optional<Instant> since;  // when the damage was found
  };
  std::map<Id, Known> known;
  for (const FoundSet& set : sets) {
    if (set.superseded || set.folder.removing) continue;
    PointInfo info;
    info.sequence = set.folder.sequence;
    info.folder = set.folder.name;
    info.findings = set.findings;
    if (set.refusal) info.findings.emplace_back(set.refusal->what());
    info.sealed = set.sealed();
    if (!set.sealed()) {
      info.health = set.findings.empty() && !set.refusal ? "incomplete" : "damaged";
      points.push_back(std::move(info));
      continue;
    }
    info.facts = set.seal->core.facts;
    check_files(store, set, info);
    Known& one = known[info.facts.set];
    if (ledger != nullptr) one.last = ledger->last_check(info.facts.set);
    if (ledger != nullptr) one.deep = ledger->last_deep_check(info.facts.set);
    if (one.last && !one.last->good)
      info.findings.push_back("a check on " + local_text(one.last->when) + " found damage in it");
    one.damaged = !info.findings.empty();
    if (one.damaged && one.last && !one.last->good) one.since = one.last->when;
    bool touched = one.deep && *one.deep->affected > 0;
    if (touched)
      info.findings.push_back(count_text(*one.deep->affected, "file") +
                              " cannot be restored as they were: kestrum verify lists them");
    info.health = one.damaged || touched ? "damaged" : one.last ? "proved" : "unproved";
    points.push_back(std::move(info));
  }
  // What lacks a set that it needs cannot be restored whole.
  for (PointInfo& info : points) {
    std::vector<SetNeed> standing;  // the sets that stand for those it needs, each once
    for (const SetNeed& need : std::exchange(info.facts.needs, {})) {
      auto found = std::find_if(points.begin(), points.end(), [&](const PointInfo& other) {
        return other.sealed && other.facts.meets(need, info.facts.chain);
      });
      SetNeed now = found == points.end() ? need : SetNeed{found->sequence, found->facts.set};
      bool listed = std::any_of(standing.begin(), standing.end(),
                                [&](const SetNeed& other) { return other.set == now.set; });
      if (listed) continue;
      standing.push_back(now);
      if (found == points.end()) {
        info.health = "incomplete";
        info.findings.push_back("it needs set " + std::to_string(need.sequence) + ", which is not there");
        continue;
      }
      const Known& needed = known[found->facts.set];
      const std::optional<CheckEntry>& deep = known[info.facts.set].deep;
      // A check of this very point, or its making, after the damage was known, has looked into what it means.
      bool looked_into = deep && needed.since && deep->when >= *needed.since;
      if (!needed.damaged || looked_into || info.health == "incomplete") continue;
      info.health = "damaged";
      info.findings.push_back("it needs set " + std::to_string(need.sequence) +
                              ", which is damaged; what that means for it: kestrum verify");
    }
    info.facts.needs = std::move(standing);
  }
  return points;
}

PointsResult list_points(const Subject& subject, Ledger* ledger) {
  PointsResult result;
  result.destination = subject.root();
  result.drive = subject.drive_name();
  result.machine = subject.identity().machine;
  result.job = subject.identity().name;
  std::vector<FoundSet> sets = subject.sets();
  for (const FoundSet& set : sets) {
    if (set.sealed()) result.encrypted = keeps_others_out(set.seal->keys);
  }
  result.points = judge_points(subject.store(), sets, ledger);
  result.space = subject.store().space();
  return result;
}

OpenPoint::OpenPoint(const Subject& subject, const PointWish& wish)
    : OpenPoint(subject.store(), subject.sets(), subject.keys(), wish) {}

OpenPoint::OpenPoint(const Store& store, std::vector<FoundSet> sets, KeyRing& keys, const PointWish& wish)
    : sets_(std::move(sets)),
      sequence_(choose_point(sets_, wish).folder.sequence),
      chain_(store, sets_, keys),
      reader_(chain_, sequence_) {}

Error no_such_path(OpenPoint& point, const TreePath& path) {
  // The deepest folder of the path that is there, and what is in it.
  TreePath at = path;
  CatalogReader catalog = point.catalog();
  std::string missing;
  while (!at.is_root()) {
    missing = at.name();
    at = at.parent();
    if (catalog.find(at)) break;
  }
  std::vector<std::string> names;
  try {
    if (path.is_root()) {
      if (std::optional<Entry> first = catalog.next()) names.push_back(first->path.absolute());
    } else {
      catalog.each_child(at, [&](const Entry& entry) {
        if (names.size() < 100000) names.emplace_back(entry.path.name());
      });
    }
  } catch (const Error&) {
    names.clear();
  }
  std::vector<std::string> near = nearest_few(missing, names, 3);
  std::string where = printable(at.absolute());
  std::string hint;
  if (!near.empty()) {
    for (std::string& name : near) name = printable(at.child(name).absolute());
    hint = "did you mean " + join(near, " or ") + "?";
  } else {
    hint = "look for it with: kestrum find SUBJECT " + printable(missing);
  }
  return Error(ErrorKind::usage, printable(path.absolute()) + " is not in point " + point_text(point.facts()),
               hint);
}

Listing browse(OpenPoint& point, const TreePath& path) {
  CatalogReader catalog = point.catalog();
  std::optional<Entry> self = catalog.find(path);
  if (!self) throw no_such_path(point, path);
  Listing listing{std::move(*self), {}};
  if (listing.self.type != EntryType::folder) return listing;
  catalog.each_child(path, [&](const Entry& entry) { listing.children.push_back(entry); });
  return listing;
}

void find_names(OpenPoint& point, const std::string& pattern, const std::function<void(const Entry&)>& hit) {
  std::string wanted = lower(pattern);
  bool plain = wanted.find_first_of("*?[\\") == std::string::npos;
  bool whole = wanted.find('/') != std::string::npos;
  if (wanted.starts_with('/')) wanted.erase(0, 1);
  CatalogReader catalog = point.catalog();
  while (std::optional<Entry> entry = catalog.next()) {
    std::string subject = lower(whole ? entry->path.joined() : std::string(entry->path.name()));
    if (plain ? subject.find(wanted) != std::string::npos : matches_pattern(wanted, subject)) hit(*entry);
  }
}

}  // namespace kestrum
