#include "engine/look.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "engine/gone_points.hpp"
#include "engine/leftover_use.hpp"
#include "engine/run_refusal.hpp"
#include "engine/ways_in.hpp"

namespace kestrum {
namespace {

// Judges the points of one list of sets.
class Judge {
 public:
  Judge(const Store& store, const SetList& sets, History* history, bool list_needs)
      : store_(store), sets_(sets), history_(history), list_needs_(list_needs) {}

  std::vector<PointInfo> points() {
    std::vector<PointInfo> out;
    out.reserve(sets_.size());
    if (history_ != nullptr) read_checks();
    std::vector<std::size_t> sealed;  // where in `out`, by place among the sealed
    for (const FoundSet& set : sets_) {
      if (!judged(set)) continue;
      if (set.sealed()) sealed.push_back(out.size());
      out.push_back(set.sealed() ? sealed_point(set) : other_point(set));
    }
    // Where every set finds the one it names, and none is damaged, there is nothing to find out.
    bool any_trouble =
        std::any_of(known_.begin(), known_.end(), [](const Known& one) { return one.damaged; });
    for (std::size_t place = 0; place < sealed.size() && !any_trouble; ++place) any_trouble = lacks(place);
    for (std::size_t place = 0; place < sealed.size() && (any_trouble || list_needs_); ++place)
      judge_needs(place, out[sealed[place]]);
    return out;
  }

 private:
  struct Known {
    std::optional<CheckEntry> deep;
    bool damaged = false;          // its own set
    std::optional<Instant> since;  // when the damage was found
  };

  static bool judged(const FoundSet& set) {
    return !set.superseded && !set.folder.removing && !set.not_ours && !set.twice;
  }

  static PointInfo other_point(const FoundSet& set) {
    PointInfo info{.sequence = set.folder.sequence,
                   .folder = printable(set.folder.name),
                   .facts = {},
                   .needs = {},
                   .findings = set.findings,
                   .proved = {}};
    if (set.refusal) info.findings.emplace_back(set.refusal->what());
    bool damaged = !set.findings.empty() || (set.refusal && !is_of_the_system(*set.refusal));
    info.health = damaged ? Health::damaged : Health::incomplete;
    return info;
  }

  void read_checks() {
    std::vector<Id> ids;
    for (const FoundSet& set : sets_) {
      if (judged(set) && set.sealed()) ids.push_back(set.facts().set);
    }
    checks_ = history_->checks(ids);
  }

  PointInfo sealed_point(const FoundSet& set) {
    PointInfo info{.sequence = set.folder.sequence,
                   .folder = printable(set.folder.name),
                   .sealed = true,
                   .facts = set.facts(),
                   .needs = {},
                   .findings = set.findings,
                   .proved = {}};
    for (const FileTrouble& file : look_at_sizes(store_, set))
      info.findings.push_back(printable(set.folder.name + "/" + file.name) +
                              (file.missing ? " is missing" : " has the wrong size"));
    const SetChecks checks = known_.size() < checks_.size() ? checks_[known_.size()] : SetChecks{};
    bool bad_check = checks.last && !checks.last->good;
    if (bad_check)
      info.findings.push_back("a check on " + local_text(checks.last->when) + " found damage in it");
    Known one{checks.deep, !info.findings.empty(), {}};
    if (bad_check) one.since = checks.last->when;
    bool touched = checks.deep && *checks.deep->affected > 0;
    if (touched)
      info.findings.push_back(
          *checks.deep->affected == 1
              ? std::string("1 file cannot be restored as it was: kestrum verify names it")
              : count_text(*checks.deep->affected, "file") +
                    " cannot be restored as they were: kestrum verify lists them");
    info.health = one.damaged || touched  ? Health::damaged
                  : set.facts().doubted() ? Health::suspect
                  : checks.last           ? Health::proved
                                          : Health::unproved;
    known_.push_back(std::move(one));
    return info;
  }

  bool lacks(std::size_t place) const {
    const SetNeeds& graph = sets_.needs();
    const SetFacts& facts = graph.facts(place);
    return std::any_of(facts.needs.begin(), facts.needs.end(), [&](const SetNeed& need) {
      return graph.meeting(need, facts.chain) == SetNeeds::none;
    });
  }

  // What lacks a set that it needs cannot be restored whole.
  void judge_needs(std::size_t place, PointInfo& info) {
    const SetNeeds& graph = sets_.needs();
    SetNeeds::Closure needed = graph.closure(place);
    for (const SetNeed& need : needed.missing) info.needs.push_back(need.sequence);
    if (!needed.missing.empty()) {
      info.health = Health::incomplete;
      bool one = needed.missing.size() == 1;
      info.findings.push_back((one ? "it needs set " : "it needs sets ") + sequences_text(info.needs) +
                              (one ? ", which is not there" : ", which are not there"));
    }
    for (std::size_t other : needed.met) {
      info.needs.push_back(graph.facts(other).sequence);
      const Known& one = known_[other];
      if (!one.damaged || info.health == Health::incomplete) continue;
      // A check of this very point, or its making, after the damage was known, has looked into what it means.
      const std::optional<CheckEntry>& deep = known_[place].deep;
      if (deep && one.since && deep->when >= *one.since) continue;
      info.health = Health::damaged;
      info.findings.push_back("it needs set " + std::to_string(graph.facts(other).sequence) +
                              ", which is damaged; what that means for it: kestrum verify");
    }
    std::sort(info.needs.begin(), info.needs.end());
  }

  const Store& store_;
  const SetList& sets_;
  History* history_;
  bool list_needs_;
  std::vector<SetChecks> checks_;  // of the sealed, in order; none without a history
  std::vector<Known> known_;       // by place among the sealed
};

}  // namespace

std::vector<PointInfo> judge_points(const Store& store, const SetList& sets, History* history,
                                    bool list_needs) {
  return Judge(store, sets, history, list_needs).points();
}

std::vector<PointInfo> own_points(const LookSession& session, History* history, bool list_needs) {
  // By a path, what the way in does not open is nobody's yet.
  std::vector<PointInfo> points = judge_points(
      session.store(), session.job() ? with_closed(session.sets()) : session.sets(), history, list_needs);
  for (PointInfo& info : points) info.closed = info.sealed && session.opens_otherwise(info.facts.chain);
  return points;
}

// What was read back of each point's set.
static void add_proofs(std::vector<PointInfo>& points, const SetList& sets, History& history) {
  std::vector<Id> ids;
  for (const PointInfo& info : points) ids.push_back(info.facts.set);
  const std::vector<std::vector<Proof>> proofs = history.proofs(ids);
  for (std::size_t i = 0; i < points.size(); ++i) {
    const FoundSet* const set = points[i].sealed ? sets.sealed(points[i].sequence) : nullptr;
    if (set != nullptr) points[i].proved = SetProofs(proofs[i]).share(set->seal->core);
  }
}

// A set that was sealed, or began to be removed, since it was listed lies under another name now: its files
// seem to be missing.
static std::vector<PointInfo> settled_points(LookSession& session, History* history, bool& words_proved) {
  constexpr int tries = 4;
  for (int attempt = 1;; ++attempt) {
    words_proved = session.prove_at_hand();
    std::vector<PointInfo> points = own_points(session, history, true);
    const bool good =
        std::all_of(points.begin(), points.end(), [](const PointInfo& one) { return one.findings.empty(); });
    if (good || attempt == tries || session.is_current()) return points;
    session.read_again();
  }
}

PointsResult list_points(LookSession& session, History* history) {
  PointsResult result;
  result.points = settled_points(session, history, result.words_proved);
  result.destination = session.root();
  result.drive = session.drive_name();
  result.machine = session.identity().machine;
  result.job = session.identity().name;
  if (session.job()) result.encrypted = session.job()->encryption != Encryption::none;
  if (const FoundSet* newest = session.sets().newest())
    result.encrypted = keeps_others_out(newest->seal->keys);
  if (history != nullptr) add_proofs(result.points, session.sets(), *history);
  result.left = left_point(session);
  result.findings = session.findings();
  if (std::string gone = session.older_state(); !gone.empty()) result.findings.push_back(gone);
  for (const std::string& line : gone_lines(session)) result.findings.push_back(line);
  for (const std::string& line : left_out_lines(session.sets())) result.findings.push_back(line);
  for (const std::string& line : session.unproved_lines()) {
    const bool told =
        std::find(result.findings.begin(), result.findings.end(), line) != result.findings.end();
    if (!told) result.notes.push_back(line);
  }
  for (const std::string& name : session.sets().strangers())
    result.notes.push_back("left alone, being no set of the job: " + printable(name));
  if (const std::string old = old_way(session).text(); !old.empty() && session.job())
    result.notes.push_back(old + "; " + old_way_advice(session.job()->name));
  result.refused = run_refusal(session);
  result.space = session.store().space();
  return result;
}

OpenPoint::Opened::Opened(const Store& store, SetList sets, KeyRing& keys, const PointWish& wish)
    : chain(store, std::move(sets), keys), reader(chain, choose_point(chain.sets(), wish).folder.sequence) {}

OpenPoint::OpenPoint(LookSession& session, const PointWish& wish) : session_(&session) {
  with_current_sets(session, [&] {
    try {
      opened_ = std::make_unique<Opened>(session.store(), session.proved_sets(), session.keys(), wish);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key) throw;
      const FoundSet& chosen = choose_point(session.sets(), wish);
      if (!session.opens_otherwise(chosen.facts().chain)) throw;
      throw Error(
          ErrorKind::key,
          "point " + std::to_string(chosen.folder.sequence) + " opens with the passphrase of before only",
          "give that one: --passphrase file:PATH");
    }
    authenticated_ = session.authenticated(*opened_->chain.sets().sealed(facts().sequence));
  });
}

OpenPoint::OpenPoint(const Store& store, SetList sets, KeyRing& keys, const PointWish& wish)
    : opened_(std::make_unique<Opened>(store, std::move(sets), keys, wish)) {}

bool OpenPoint::renew() {
  if (session_ == nullptr || session_->is_current()) return false;
  const Sequence sequence = facts().sequence;
  const Id chain = facts().chain;
  session_->read_again();
  const FoundSet* now = session_->proved_sets().sealed(sequence);
  if (now == nullptr || now->facts().chain != chain)
    throw Error(ErrorKind::failed,
                "point " + std::to_string(sequence) + " was removed or folded away while it was read",
                "see which points there are now, with: kestrum points");
  opened_ = std::make_unique<Opened>(session_->store(), session_->sets(), session_->keys(),
                                     PointWish{PointWish::By::number, sequence, {}});
  return true;
}

NoSuchPath no_such_path(OpenPoint& point, const TreePath& path) {
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
  }
  return NoSuchPath(Error(ErrorKind::usage,
                          printable(path.absolute()) + " is not in point " + point_text(point.facts()), hint),
                    {path});
}

std::string gap_text(const TreePath& from, const std::optional<TreePath>& until, const std::string& why) {
  return "a part of the list of files does not read (" + why + "): what comes from " +
         printable(from.absolute()) + (until ? " to " + printable(until->absolute()) : std::string(" on"));
}

Listing browse(OpenPoint& point, const TreePath& path, const BrowseWays& ways) {
  CatalogReader catalog = point.catalog();
  std::optional<Entry> self = catalog.find(path);
  if (!self) throw no_such_path(point, path);
  Listing listing{std::move(*self), {}, {}};
  if (listing.self.type != EntryType::folder) return listing;
  const auto take = [&](const Entry& entry) { listing.children.push_back({entry, {}}); };
  const auto gap = [&](const CatalogReader::Gap& missing, const Error& error) {
    listing.findings.push_back(gap_text(missing.from, missing.until, error.what()));
  };
  if (ways.deep) {
    catalog.each_below(path, take, gap);
  } else {
    catalog.each_child(path, take, gap);
  }
  for (Listing::Child& child : listing.children) {
    if (!ways.sums || child.entry.type != EntryType::folder) continue;
    try {
      child.below = catalog.below(child.entry.path);
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
    }
  }
  return listing;
}

TreePath path_in(OpenPoint& point, const WantedPath& wanted) {
  CatalogReader catalog = point.catalog();
  for (const TreePath& path : wanted.readings) {
    if (path.is_root() || catalog.find(path)) return path;
  }
  throw NoSuchPath(no_such_path(point, wanted.readings.at(0)), wanted.readings);
}

}  // namespace kestrum
