#include "engine/version_search.hpp"

#include <algorithm>
#include <map>
#include <set>
#include <tuple>

#include "base/text.hpp"
#include "engine/gap_list.hpp"

namespace kestrum {
namespace {

// Goes through all points at once.
class Search {
 public:
  Search(std::vector<LookSession>& sessions, const NameQuery& query, const VersionScope& scope,
         RunControl& control, const OnVersions& found)
      : sessions_(sessions), matcher_(query), scope_(scope), control_(control), found_(found) {}

  VersionSearch run() {
    constexpr int tries = 4;
    for (int attempt = 1;; ++attempt) {
      try {
        return pass();
      } catch (const Error&) {
        if (attempt == tries || !changed_meanwhile()) throw;
      }
    }
  }

 private:
  bool changed_meanwhile() {
    bool changed = false;
    for (LookSession& session : sessions_) {
      if (session.is_current()) continue;
      session.read_again();
      changed = true;
    }
    return changed;
  }

  // From where the one before ended, if there was one.
  VersionSearch pass() {
    result_ = {};
    gaps_.clear();
    unread_ = {};
    PointRow::Ways ways;
    if (scope_.only) {
      const Sequence only = choose_point(sessions_.at(0).proved_sets(), *scope_.only).folder.sequence;
      ways.wanted = [only](std::size_t session, const SetFacts& facts) {
        return session == 0 && facts.sequence == only;
      };
    }
    ways.unread = [&](const std::string& what) { result_.unread.push_back(what); };
    const PointRow row(sessions_, ways);
    row_ = &row;
    result_.points = row.points().size();
    CatalogMerge merge(row.sources(), {.within = scope_.within,
                                       .from = from_,
                                       .gap =
                                           [&](CatalogMerge::Gap gap) {
                                             tell_gap(gap);
                                             gaps_.push_back(std::move(gap));
                                           },
                                       .sieve = sieve()});
    unsigned passed = 0;
    constexpr unsigned often = 1024;
    while (merge.next()) {
      if (++passed % often == 0) control_.checkpoint();
      if (any_ && merge.joined() == from_.joined()) continue;
      take(merge);
    }
    result_.pages_read = merge.pages_read();
    for (std::string& line : unread_.lines()) result_.unread.push_back(std::move(line));
    return std::move(result_);
  }

  // Most pages hold no name that fits.
  Sieve sieve() const {
    if (matcher_.any_name()) return {};
    return [matcher = matcher_](ByteView page) {
      return has_path(page, [&](const std::string& joined) { return matcher.name_fits(joined); });
    };
  }

  void tell_gap(const CatalogMerge::Gap& gap) {
    for (const std::size_t source : gap.sources)
      unread_.add(row_->name(source) + ": ", gap.from, gap.until, gap.reason);
  }

  void take(const CatalogMerge& merge) {
    const bool fits = std::any_of(
        merge.sides().begin(), merge.sides().end(),
        [&](const CatalogMerge::Side& side) { return matcher_.fits(merge.joined(), side.scan->head()); });
    if (!fits) return;
    control_.checkpoint();
    // By drive and version: the points that have it.
    std::map<std::pair<std::size_t, Digest>, std::pair<Entry, std::vector<std::size_t>>> versions;
    std::vector<bool> there(row_->points().size());
    for (const CatalogMerge::Side& side : merge.sides()) {
      Entry entry = side.scan->entry();
      const bool wanted = matcher_.fits(entry);
      const Digest version = version_of(entry);
      for (const std::size_t point : *side.sources) {
        there[point] = true;
        if (!wanted) continue;
        auto [place, is_new] = versions.try_emplace({row_->points()[point].session, version});
        if (is_new) place->second.first = entry;
        place->second.second.push_back(point);
      }
    }
    std::vector<FoundVersion> out;
    for (auto& [key, version] : versions) {
      std::sort(version.second.begin(), version.second.end());
      out.push_back(made(std::move(version.first), version.second, there));
    }
    std::sort(out.begin(), out.end(), [](const FoundVersion& a, const FoundVersion& b) {
      return std::tie(a.session, a.points.front()) < std::tie(b.session, b.points.front());
    });
    from_ = out.front().entry.path;
    any_ = true;
    found_(std::move(out));
  }

  FoundVersion made(Entry entry, const std::vector<std::size_t>& points, const std::vector<bool>& there) {
    const auto& all = row_->points();
    FoundVersion version;
    version.session = all[points.front()].session;
    version.entry = std::move(entry);
    for (const std::size_t point : points) version.points.push_back(all[point].facts.sequence);
    version.first = all[points.front()].facts.started;
    version.last = all[points.back()].facts.started;
    const auto unknown = [&](std::size_t point) { return is_gap(point, version.entry.path); };
    std::size_t next = points.back() + 1;
    while (next < all.size() && unknown(next)) ++next;
    if (next < all.size() && all[next].session == version.session) {
      version.after = there[next] ? AfterVersion::changed : AfterVersion::gone;
      version.since = all[next].facts.started;
      version.followed = all[next].facts.sequence;
    }
    std::size_t before = points.front();
    while (before > 0 && unknown(before - 1)) --before;
    if (before > 0 && all[before - 1].session == version.session) {
      version.before = all[before - 1].facts.started;
      version.preceded = all[before - 1].facts.sequence;
    }
    return version;
  }

  bool is_gap(std::size_t point, const TreePath& path) const {
    return std::any_of(gaps_.begin(), gaps_.end(), [&](const CatalogMerge::Gap& gap) {
      return !(path < gap.from) && (!gap.until || path < *gap.until) &&
             std::binary_search(gap.sources.begin(), gap.sources.end(), point);
    });
  }

  std::vector<LookSession>& sessions_;
  const NameMatcher matcher_;
  const VersionScope& scope_;
  RunControl& control_;
  const OnVersions& found_;
  const PointRow* row_ = nullptr;
  VersionSearch result_;
  std::vector<CatalogMerge::Gap> gaps_;
  GapList unread_;
  TreePath from_;  // told last
  bool any_ = false;
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

// Sealed points that count, oldest first.
std::vector<const FoundSet*> points_of(const SetList& sets) {
  std::vector<const FoundSet*> points;
  for (const FoundSet& set : sets) {
    if (set.sealed() && !set.facts().standing.given_up()) points.push_back(&set);
  }
  return points;
}

}  // namespace

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

VersionSearch find_versions(std::vector<LookSession>& sessions, const NameQuery& query,
                            const VersionScope& scope, RunControl& control, const OnVersions& found) {
  return Search(sessions, query, scope, control, found).run();
}

std::vector<TreePath> nearest_paths(std::vector<LookSession>& sessions, const TreePath& path,
                                    std::size_t most, RunControl& control) {
  const std::string wanted(path.name());
  const std::size_t limit = std::max<std::size_t>(2, wanted.size() / 3);
  const PointRow row(sessions, {.wanted = {}, .unread = [](const std::string&) {}});
  CatalogMerge merge(row.sources(), {.gap = [](const CatalogMerge::Gap&) {}});
  // How far the name is off, whether the folder is another, and where.
  std::set<std::tuple<std::size_t, bool, TreePath>> best;
  while (merge.next()) {
    control.checkpoint();
    const std::string& joined = merge.joined();
    const std::string_view name = std::string_view(joined).substr(joined.rfind('/') + 1);  // npos + 1 is 0
    const std::size_t off = edit_distance(wanted, name, limit);
    if (off > limit) continue;
    TreePath found = *TreePath::from_joined(joined);
    const bool elsewhere = found.parent() != path.parent();
    best.emplace(off, elsewhere, std::move(found));
    if (best.size() > most) best.erase(std::prev(best.end()));
  }
  std::vector<TreePath> out;
  for (const auto& one : best) out.push_back(std::get<TreePath>(one));
  return out;
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
