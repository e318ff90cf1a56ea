#include "engine/verify.hpp"

#include <algorithm>

#include "archive/content_list.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr std::size_t listed_files = 1000;

// The chunks of one set that read well.
struct GoodChunks {
  NameTable names;
  std::unordered_set<ChunkName, ChunkNameHash> lost;
  bool usable = false;
  bool holds(const ChunkName& name) const { return usable && names.find(name) && !lost.contains(name); }
};

class Verification {
 public:
  Verification(const Store& store, SetList sets, KeyRing& keys, const VerifyRequest& request,
               const Clock& clock, History* history, Observer& observer, RunControl& control)
      : chain_(store, std::move(sets), keys),
        request_(request),
        clock_(clock),
        history_(history),
        observer_(observer),
        control_(control) {
    result_.depth = request.depth;
  }

  VerifyResult run() {
    std::set<Sequence> wanted = chosen();
    PhaseTotals totals;
    for (const FoundSet& set : chain_.sets()) {
      if (set.sealed() && wanted.contains(set.folder.sequence))
        totals.bytes += set.seal->core.facts.totals.stored_bytes;
    }
    observer_.phase_begins(Phase::checking, request_.depth == Depth::all ? totals : PhaseTotals{});
    for (const FoundSet& set : chain_.sets()) {
      // A run in progress, or what a killed one left: no set, and no damage.
      bool only_left = !set.sealed() && set.findings.empty() && !set.refusal;
      if (set.not_ours || set.twice) continue;
      if (!wanted.contains(set.folder.sequence) || only_left) continue;
      check_one(set);
    }
    auto opened = [](const PointVerdict& verdict) { return !verdict.closed; };
    if (closed_ && std::none_of(result_.points.begin(), result_.points.end(), opened)) throw *closed_;
    for (PointVerdict& verdict : result_.points) {
      if (verdict.facts && !lacks_what_it_needs(verdict)) check_point(verdict);
    }
    return std::move(result_);
  }

  // What was found, in the history.
  void remember_all(const VerifyResult& result) {
    for (const PointVerdict& verdict : result.points) {
      if (verdict.facts && verdict.unreadable.empty()) remember(verdict);
    }
  }

 private:
  void remember(const PointVerdict& verdict) {
    bool deep = request_.depth == Depth::all;
    CheckEntry check{clock_.now(), request_.depth, verdict.findings.empty(), places_[verdict.sequence], {}};
    // What read content has shown, a look at the marks of the frames does not take back; nor does it make
    // damage newer that was known already, which would cast doubt on points made since.
    const std::optional<CheckEntry> last = history_->checks(verdict.facts->set).last;
    if (!deep && last && !last->good) {
      LostPlaces both = last->lost;
      both.add(check.lost);
      if (both.text() == last->lost.text()) return;
    }
    if (deep) check.affected = verdict.affected_count;
    history_->add_check(verdict.facts->set, check);
  }

  std::set<Sequence> chosen() {
    std::set<Sequence> wanted;
    if (!request_.at) {
      for (const FoundSet& set : chain_.sets()) wanted.insert(set.folder.sequence);
      return wanted;
    }
    const FoundSet& point = choose_point(chain_.sets(), *request_.at);
    wanted.insert(point.folder.sequence);
    for (std::size_t place : chain_.sets().needs_of(point).met)
      wanted.insert(chain_.sets().sealed_at(place).folder.sequence);
    return wanted;
  }

  void check_one(const FoundSet& set) {
    PointVerdict verdict;
    verdict.sequence = set.folder.sequence;
    verdict.folder = printable(set.folder.name);
    verdict.findings = set.findings;
    if (set.refusal && is_of_the_system(*set.refusal)) {
      cannot_check(verdict, *set.refusal);
    } else if (set.refusal) {
      verdict.findings.emplace_back(set.refusal->what());
    }
    if (set.sealed()) check_sealed(set, verdict);
    result_.points.push_back(std::move(verdict));
  }

  void cannot_check(PointVerdict& verdict, const Error& why) {
    verdict.unreadable = why.what();
    unreadable_.insert(verdict.sequence);
  }

  void check_sealed(const FoundSet& set, PointVerdict& verdict) {
    try {
      SetReader& reader = chain_.set(set.folder.sequence);
      verdict.facts = reader.facts();
      CheckOptions options{.deep = request_.depth == Depth::all,
                           .drop_cache = true,
                           .own_only = false,
                           .workers = request_.workers,
                           .progress = [this](std::uint64_t bytes) {
                             control_.checkpoint();
                             observer_.advanced(bytes, 0);
                           }};
      SetFindings found = check_set(reader, options);
      verdict.findings.insert(verdict.findings.end(), found.findings.begin(), found.findings.end());
      result_.bytes += found.bytes;
      reader.mark_lost(found.places);
      places_[reader.facts().sequence] = found.places;
      if (request_.depth == Depth::all) learn(reader, std::move(found));
    } catch (const Error& error) {
      if (is_of_the_system(error) && does_not_read(error)) {
        cannot_check(verdict, error);
        return;
      }
      if (error.kind() == ErrorKind::key) {
        closed_ = error;
        verdict.closed = true;
        verdict.facts = set.facts();
        cannot_check(verdict, error);
        return;
      }
      if (is_of_the_system(error) || (error.kind() != ErrorKind::damage && error.kind() != ErrorKind::failed))
        throw;
      verdict.findings.emplace_back(error.what());
    }
  }

  void learn(SetReader& reader, SetFindings found) {
    GoodChunks& chunks = chunks_[reader.facts().sequence];
    chunks.lost = std::move(found.lost);
    if (found.index_lost) return;
    chunks.usable = true;
    reader.each_record([&](const IndexRecord& record) { chunks.names.put(record.name, 0); });
  }

  // Nothing can be said of a point while a set that it needs cannot be read.
  bool lacks_what_it_needs(PointVerdict& verdict) {
    if (!verdict.unreadable.empty()) return true;
    for (std::size_t place : chain_.sets().needs().closure(*verdict.facts).met) {
      Sequence needed = chain_.sets().sealed_at(place).folder.sequence;
      if (!unreadable_.contains(needed)) continue;
      verdict.unreadable = "set " + std::to_string(needed) + ", which it needs, could not be read";
      return true;
    }
    return false;
  }

  // True when it is for the caller to go on with: damage. What the system could not do ends the checking of
  // this point, or of everything.
  static bool is_damage(PointVerdict& verdict, const Error& error) {
    if (error.kind() == ErrorKind::key || (is_of_the_system(error) && !does_not_read(error))) throw error;
    if (!is_of_the_system(error)) return true;
    verdict.unreadable = error.what();
    return false;
  }

  void add_affected(PointVerdict& verdict, std::string path, std::string reason) {
    ++verdict.affected_count;
    if (verdict.affected.size() < listed_files)
      verdict.affected.push_back({std::move(path), std::move(reason)});
  }

  void check_point(PointVerdict& verdict) {
    std::optional<PointReader> point;
    std::optional<CatalogReader> catalog;
    try {
      point.emplace(chain_, verdict.sequence);
      catalog.emplace(*point, point->set().root().catalog);
    } catch (const Error& error) {
      if (is_damage(verdict, error)) add_affected(verdict, "/", "nothing of this point can be read");
      return;
    }
    for (const SetNeed& need : chain_.sets().needs().closure(point->set().facts()).missing)
      verdict.findings.push_back("set " + std::to_string(need.sequence) +
                                 ", which this point needs, is not there or not valid");
    try {
      if (request_.depth == Depth::quick) {
        catalog->next();
        return;
      }
      check_record_chunks(verdict, *point);
    } catch (const Error& error) {
      if (!is_damage(verdict, error)) return;
      add_affected(verdict, "/",
                   "the list of files does not read from its start: " + std::string(error.what()));
      return;
    }
    check_entries(verdict, *point, *catalog);
  }

  // The job file and the record of the run: needed to build a lost home again, not to restore.
  void check_record_chunks(PointVerdict& verdict, PointReader& point) {
    const Root& root = point.set().root();
    for (const ChunkRef& ref : {root.record, root.job_file, root.problems}) {
      if (ref.length != 0 && !present(point, ref))
        verdict.findings.push_back("the record of this set's run does not read");
    }
  }

  bool present(PointReader& point, const ChunkRef& ref) {
    auto hinted = chunks_.find(ref.sequence);
    bool among =
        std::find(point.sources().begin(), point.sources().end(), ref.sequence) != point.sources().end();
    if (among && hinted != chunks_.end() && hinted->second.holds(ref.name)) return true;
    return std::any_of(point.sources().begin(), point.sources().end(), [&](Sequence sequence) {
      auto chunks = chunks_.find(sequence);
      return chunks != chunks_.end() && chunks->second.holds(ref.name);
    });
  }

  void check_entries(PointVerdict& verdict, PointReader& point, CatalogReader& catalog) {
    while (true) {
      control_.checkpoint();
      try {
        std::optional<Entry> entry = catalog.next();
        if (!entry) return;
        check_entry(verdict, point, *entry);
      } catch (const Error& error) {
        if (!is_damage(verdict, error)) return;
        CatalogReader::Gap gap;
        const bool more = catalog.pass_damage(gap);
        add_affected(verdict, gap.from.absolute(),
                     "the list of files is damaged from here" +
                         (gap.until ? " to " + printable(gap.until->absolute()) : std::string(" on")));
        if (!more) return;
      }
    }
  }

  void check_entry(PointVerdict& verdict, PointReader& point, const Entry& entry) {
    bool good = !entry.attribute_chunk || present(point, *entry.attribute_chunk);
    std::uint64_t at = 0;
    std::string where = "its attributes are damaged";
    auto look = [&](const ContentItem& item) {
      if (good && item.kind != ItemKind::hole && !present(point, item.ref())) {
        good = false;
        where = "its content is damaged at byte " + std::to_string(at);
      }
      if (item.kind != ItemKind::list) at += item.length;
    };
    try {
      walk_content(entry.content, point, look, look);
    } catch (const Error& error) {
      if (is_of_the_system(error) || error.kind() == ErrorKind::key) throw;
      good = false;
      where = "the list of its content is damaged at byte " + std::to_string(at);
    }
    if (!good) add_affected(verdict, entry.path.absolute(), where);
  }

  ChainReader chain_;
  const VerifyRequest& request_;
  const Clock& clock_;
  History* history_;
  Observer& observer_;
  RunControl& control_;
  std::map<Sequence, GoodChunks> chunks_;
  std::map<Sequence, LostPlaces> places_;
  std::set<Sequence> unreadable_;
  std::optional<Error> closed_;
  VerifyResult result_;
};

}  // namespace

bool VerifyResult::damaged() const {
  return !findings.empty() ||
         std::any_of(points.begin(), points.end(), [](const PointVerdict& point) { return point.damaged(); });
}

bool VerifyResult::good() const {
  return findings.empty() &&
         std::all_of(points.begin(), points.end(), [](const PointVerdict& point) { return point.good(); });
}

bool VerifyResult::closed() const {
  return std::any_of(points.begin(), points.end(),
                     [](const PointVerdict& point) { return point.closed && !point.expected; });
}

VerifyResult verify_sets(const Store& store, SetList sets, KeyRing& keys, const VerifyRequest& request,
                         const Clock& clock, History* history, Observer& observer, RunControl& control) {
  Verification verification(store, std::move(sets), keys, request, clock, history, observer, control);
  VerifyResult result = verification.run();
  if (history != nullptr) verification.remember_all(result);
  return result;
}

// What a fold or a pruning takes away while it is looked for is no damage: the sets are read again then.
static VerifyResult verify_current(LookSession& session, const VerifyRequest& request, const Clock& clock,
                                   History* history, Observer& observer, RunControl& control) {
  constexpr int tries = 4;
  for (int attempt = 1;; ++attempt) {
    Verification verification(session.store(), session.proved_sets(), session.keys(), request, clock, history,
                              observer, control);
    std::optional<VerifyResult> result;
    try {
      result = verification.run();
    } catch (const Error&) {
      if (attempt == tries || session.is_current()) throw;
    }
    bool sure = result && (result->good() || session.is_current());
    if (sure && history != nullptr) verification.remember_all(*result);
    if (sure || (result && attempt == tries)) return std::move(*result);
    session.read_again();
  }
}

// A quick check sees less than was known before: what is damaged by an earlier one, or because of what it
// needs, is not called good.
static void add_known_damage(VerifyResult& result, const std::vector<PointInfo>& points) {
  for (PointVerdict& verdict : result.points) {
    if (!verdict.good() || !verdict.facts) continue;
    for (const PointInfo& info : points) {
      const bool same = info.sealed && info.facts.set == verdict.facts->set;
      if (same && !info.good())
        verdict.findings.insert(verdict.findings.end(), info.findings.begin(), info.findings.end());
    }
  }
}

VerifyResult verify(LookSession& session, const VerifyRequest& request, const Clock& clock, History* history,
                    Observer& observer, RunControl& control) {
  VerifyResult result = verify_current(session, request, clock, history, observer, control);
  if (request.depth == Depth::quick && history != nullptr)
    add_known_damage(result, own_points(session, history));
  for (PointVerdict& verdict : result.points)
    verdict.expected = verdict.closed && session.opens_otherwise(verdict.facts->chain);
  result.findings = session.findings();
  for (const std::string& line : left_out_lines(session.sets())) result.findings.push_back(line);
  if (std::string gone = session.older_state(); !gone.empty()) result.findings.push_back(gone);
  return result;
}

}  // namespace kestrum
