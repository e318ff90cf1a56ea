#include "engine/version_search.hpp"

#include <algorithm>
#include <map>
#include <tuple>

namespace kestrum {
namespace {

// Sealed points that count, oldest first.
std::vector<const FoundSet*> points_of(const SetList& sets) {
  std::vector<const FoundSet*> points;
  for (const FoundSet& set : sets) {
    if (set.sealed() && !set.facts().standing.given_up()) points.push_back(&set);
  }
  return points;
}

// What makes two entries of one path the same version: kind and content, and when it was modified; of a
// folder only that it is there.
Digest version_of(const Entry& entry) {
  ByteWriter out;
  out.raw(as_bytes(entry.path.joined()));
  out.u8(0);
  out.u8(static_cast<std::uint8_t>(entry.type));
  if (entry.type == EntryType::folder) return digest(out.view());
  out.varint(entry.size);
  out.varint(static_cast<std::uint64_t>(entry.modified.seconds));
  out.varint(static_cast<std::uint64_t>(entry.modified.nanoseconds));
  out.text(entry.link_target);
  for (const ContentItem& item : entry.content) {
    out.varint(item.length);
    out.raw(item.name.bytes);
  }
  return digest(out.view());
}

// The versions of one drive.
class DriveSearch {
 public:
  DriveSearch(LookSession& session, std::size_t number, const NamePattern& pattern, RunControl& control,
              VersionSearch& result)
      : session_(session), number_(number), pattern_(pattern), control_(control), result_(result) {}

  std::vector<FoundVersion> run() {
    session_.proved_sets();
    const SetList& sets = session_.sets();
    const std::vector<const FoundSet*> points = points_of(sets);
    ChainReader chain(session_.store(), sets, session_.keys());
    for (const FoundSet* point : points) {
      const Sequence sequence = point->folder.sequence;
      if (session_.opens_otherwise(point->facts().chain)) {
        unread(sequence, "it opens with the passphrase of before only");
        continue;
      }
      try {
        PointReader reader(chain, sequence);
        const CatalogTop top = reader.set().root().catalog;
        take(*hits_of(reader, top.page, top.level), point->facts());
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        unread(sequence, error.what());
      }
    }
    tell_what_came_after();
    return std::move(found_);
  }

 private:
  using Hits = std::vector<std::size_t>;  // of found_

  void unread(Sequence sequence, const std::string& why) {
    result_.unread.push_back("point " + std::to_string(sequence) + " of " + session_.drive_name() + ": " +
                             why);
  }

  // What a page and all below it hold.
  std::shared_ptr<const Hits> hits_of(PointReader& reader, const ChunkRef& page, unsigned level) {
    auto known = pages_.find(page.name);
    if (known != pages_.end()) return known->second;
    control_.checkpoint();
    const CatalogPage content = decode_page(reader.fetch(page));
    if (content.level != level) throw damage("a catalog page stands at the wrong level");
    auto hits = std::make_shared<Hits>();
    for (const Entry& entry : content.entries) {
      if (pattern_.fits(entry)) hits->push_back(number_of(entry));
    }
    for (const PageLink& link : content.links) {
      const std::shared_ptr<const Hits> below = hits_of(reader, link.page, level - 1);
      hits->insert(hits->end(), below->begin(), below->end());
    }
    pages_.emplace(page.name, hits);
    return hits;
  }

  std::size_t number_of(const Entry& entry) {
    auto [place, is_new] = numbers_.try_emplace(version_of(entry), found_.size());
    if (is_new) {
      found_.emplace_back();
      found_.back().session = number_;
      found_.back().entry = entry;
    }
    return place->second;
  }

  void take(const Hits& hits, const SetFacts& facts) {
    looked_at_.push_back(facts);
    for (std::size_t hit : hits) {
      FoundVersion& version = found_[hit];
      if (version.points.empty()) version.first = facts.started;
      version.points.push_back(facts.sequence);
      version.last = facts.started;
    }
  }

  void tell_what_came_after() {
    std::map<std::pair<TreePath, Sequence>, bool> at;  // a path and a point that has it in some version
    for (const FoundVersion& version : found_)
      for (Sequence point : version.points) at[{version.entry.path, point}] = true;
    for (FoundVersion& version : found_) {
      auto next = std::find_if(looked_at_.begin(), looked_at_.end(),
                               [&](const SetFacts& facts) { return facts.sequence > version.points.back(); });
      if (next == looked_at_.end()) continue;
      const bool there = at.contains({version.entry.path, next->sequence});
      version.after = there ? AfterVersion::changed : AfterVersion::gone;
      version.since = next->started;
    }
  }

  LookSession& session_;
  std::size_t number_;
  const NamePattern& pattern_;
  RunControl& control_;
  VersionSearch& result_;
  std::vector<FoundVersion> found_;
  std::vector<SetFacts> looked_at_;
  std::map<Digest, std::size_t> numbers_;
  std::map<ChunkName, std::shared_ptr<const Hits>> pages_;
};

bool has_path(LookSession& session, Sequence sequence, const TreePath& path) {
  try {
    OpenPoint point(session, {PointWish::By::number, sequence, {}});
    return point.catalog().find(path).has_value();
  } catch (const Error& error) {
    if (!does_not_read(error) && error.kind() != ErrorKind::key) throw;
    return false;
  }
}

}  // namespace

VersionSearch find_versions(std::vector<LookSession>& sessions, const std::string& pattern, std::size_t most,
                            RunControl& control) {
  VersionSearch result;
  const NamePattern names(pattern);
  for (std::size_t i = 0; i < sessions.size(); ++i) {
    std::vector<FoundVersion> found;
    const std::vector<std::string> unread = result.unread;
    with_current_sets(sessions[i], [&] {
      result.unread = unread;  // not that of a try before
      found = DriveSearch(sessions[i], i, names, control, result).run();
    });
    std::move(found.begin(), found.end(), std::back_inserter(result.versions));
  }
  std::stable_sort(result.versions.begin(), result.versions.end(),
                   [](const FoundVersion& a, const FoundVersion& b) {
                     return std::tie(a.entry.path, a.session, a.points.front()) <
                            std::tie(b.entry.path, b.session, b.points.front());
                   });
  if (result.versions.size() > most) {
    result.more = result.versions.size() - most;
    result.versions.resize(most);
  }
  return result;
}

std::optional<LastSeen> last_seen(std::vector<LookSession>& sessions, const TreePath& path) {
  std::optional<LastSeen> best;
  for (std::size_t i = 0; i < sessions.size(); ++i) {
    sessions[i].proved_sets();
    const std::vector<const FoundSet*> points = points_of(sessions[i].sets());
    for (std::size_t at = points.size(); at-- > 0;) {
      const SetFacts& facts = points[at]->facts();
      if (best && facts.started <= best->point.started) break;
      if (!has_path(sessions[i], facts.sequence, path)) continue;
      best = LastSeen{i, facts, {}};
      if (at + 1 < points.size()) best->without = points[at + 1]->facts();
      break;
    }
  }
  return best;
}

}  // namespace kestrum
