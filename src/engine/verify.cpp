#include "engine/verify.hpp"

#include <algorithm>

#include "archive/content_list.hpp"
#include "base/random.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/check_sample.hpp"
#include "engine/chunk_looks.hpp"
#include "engine/disk_today.hpp"
#include "engine/same_content.hpp"

namespace kestrum {
namespace {

constexpr std::size_t listed_files = 1000;

// The list of a point as a part of its set, for what is remembered of checks.
constexpr Stretch list_of_point{UINT32_MAX, 0, 1};

// What became of one set.
struct SetLook {
  LostPlaces lost;     // as far as is known
  bool whole = false;  // every part of it was read, in this check or in earlier ones
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
        control_(control),
        round_(request.round, clock, history) {
    result_.depth = request.depth;
    result_.known = request.known;
    result_.seed = request.seed.value_or(random_number() % 1000000);
  }

  VerifyResult run() {
    std::vector<const FoundSet*> sets = chosen();
    round_.begin(sets);
    result_.went_on = round_.went_on();
    if (request_.round.budget.any()) round_.sort(sets);
    if (request_.depth == Depth::sample)
      sample_ = choose_sample(sets, chain_, round_, {request_.sample_percent, request_.seed, result_.seed});
    observer_.phase_begins(Phase::checking, totals(sets));
    if (request_.affected != nullptr) request_.affected->begin();
    try {
      for (const FoundSet* set : sets) check_one(*set);
      std::sort(result_.points.begin(), result_.points.end(),
                [](const PointVerdict& a, const PointVerdict& b) { return a.sequence < b.sequence; });
      auto opened = [](const PointVerdict& verdict) { return !verdict.closed; };
      date_places();
      if (closed_ && std::none_of(result_.points.begin(), result_.points.end(), opened)) throw *closed_;
      for (PointVerdict& verdict : result_.points) {
        if (verdict.facts && !lacks_what_it_needs(verdict)) check_point(verdict);
      }
    } catch (...) {
      round_.write();
      throw;
    }
    round_.end();
    number_places();
    result_.left_bytes = round_.left_bytes();
    result_.complete = round_.complete();
    return std::move(result_);
  }

  // What was found, in the history.
  void remember_all(const VerifyResult& result) {
    for (const PointVerdict& verdict : result.points) {
      if (verdict.facts && verdict.unreadable.empty()) remember(verdict);
    }
  }

 private:
  bool deep() const { return request_.depth != Depth::quick; }
  // A part of it, or more than one go.
  bool in_parts() const {
    return request_.depth == Depth::sample || request_.round.budget.any() || round_.went_on();
  }

  void remember(const PointVerdict& verdict) {
    const SetLook& look = looks_[verdict.sequence];
    const bool good = verdict.findings.empty() && look.lost.empty();
    // A part of it says nothing of the rest.
    if (deep() && good && !look.whole) return;
    CheckEntry check{clock_.now(), deep() ? Depth::all : Depth::quick, good, look.lost, {}};
    // What read content has shown, a look at the marks of the frames does not take back; nor does it make
    // damage newer that was known already, which would cast doubt on points made since.
    const std::optional<CheckEntry> last = history_->checks(verdict.facts->set).last;
    const bool part = !deep() || (in_parts() && !look.whole);
    if (part && last && !last->good) {
      LostPlaces both = last->lost;
      if (!deep()) both.add(check.lost);
      if ((deep() ? check.lost : both).text() == last->lost.text()) return;
    }
    if (verdict.listed || verdict.affected_count > 0) check.affected = verdict.affected_count;
    history_->add_check(verdict.facts->set, check);
  }

  // Without runs in progress and what killed ones left: no sets, and no damage.
  std::vector<const FoundSet*> chosen() {
    std::set<Sequence> wanted;
    if (request_.at || request_.depth == Depth::source) {
      const FoundSet& point = choose_point(chain_.sets(), request_.at.value_or(PointWish{}));
      wanted.insert(point.folder.sequence);
      source_point_ = point.folder.sequence;
      if (request_.depth == Depth::source) result_.source.emplace();
      for (std::size_t place : chain_.sets().needs_of(point).met)
        wanted.insert(chain_.sets().sealed_at(place).folder.sequence);
    }
    std::vector<const FoundSet*> sets;
    for (const FoundSet& set : chain_.sets()) {
      const bool only_left = !set.sealed() && set.findings.empty() && !set.refusal;
      if (set.not_ours || set.twice || only_left) continue;
      if (wanted.empty() || wanted.contains(set.folder.sequence)) sets.push_back(&set);
    }
    return sets;
  }

  PhaseTotals totals(const std::vector<const FoundSet*>& sets) const {
    PhaseTotals totals;
    if (request_.depth == Depth::quick || request_.known || in_parts()) return totals;
    for (const FoundSet* set : sets) {
      if (set->sealed()) totals.bytes += set->seal->core.facts.totals.stored_bytes;
    }
    return totals;
  }

  bool is_due(const Id& set, const Stretch& stretch) const {
    return request_.depth == Depth::sample ? sample_.has(set, stretch) : round_.is_due(set, stretch);
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
    chunk_looks_.cannot_say(verdict.sequence);
  }

  void check_sealed(const FoundSet& set, PointVerdict& verdict) {
    try {
      SetReader& reader = chain_.set(set.folder.sequence);
      verdict.facts = reader.facts();
      verdict.files = set.seal->core.files;
      check_content(set, reader, verdict);
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

  void check_content(const FoundSet& set, SetReader& reader, PointVerdict& verdict) {
    const Id& id = set.facts().set;
    if (request_.known) return take_known(set, reader, verdict);
    const CheckOptions options{.frames = deep() ? FrameCheck::content : FrameCheck::marks,
                               .drop_cache = true,
                               .workers = request_.workers,
                               .progress = [this](std::uint64_t bytes) {
                                 control_.checkpoint();
                                 observer_.advanced(bytes, 0);
                                 round_.advanced(bytes);
                               }};
    SetCheck check(reader, options,
                   request_.depth == Depth::sample ? CheckSample::stretch : SetCheck::stretch_bytes);
    SetLook& look = looks_[set.folder.sequence];
    if (in_parts()) look.lost = known_losses(id);
    const bool lost_before = !look.lost.empty();
    bool all = true;
    for (const Stretch& stretch : check.stretches()) {
      if (!is_due(id, stretch)) {
        all = false;
      } else if (round_.over()) {
        all = false;
        round_.leave(stretch.size());
      } else if (check.check(stretch)) {
        if (deep()) round_.proved(id, stretch);
        look.lost.take_out(stretch);
      } else {
        round_.refuted(id, stretch);
      }
    }
    const SetFindings found = check.finish();
    result_.bytes += found.bytes;
    verdict.findings.insert(verdict.findings.end(), found.findings.begin(), found.findings.end());
    verdict.parity = found.parity;
    if (all) look.lost = {};
    look.lost.add(found.places);
    look.whole = all || round_.proofs(id).since(set.seal->core, true).has_value();
    new_damage_ = new_damage_ || !found.findings.empty();
    bad_places_ = bad_places_ || found.unread;
    // Which of its parts are what the index should have said, nobody knows.
    if (found.index_lost) {
      for (const SealedFile& file : set.seal->core.files) round_.refuted(id, frames_of(file));
    }
    if (lost_before && look.whole && found.places.empty()) look.lost = {};
    round_.lost(id, found.places);
    take_lost(set, reader, verdict);
  }

  void take_lost(const FoundSet& set, SetReader& reader, PointVerdict& verdict) {
    const LostPlaces& lost = looks_[set.folder.sequence].lost;
    reader.mark_lost(lost);
    chunk_looks_.lost(set, lost);
    verdict.lost = lost;
  }

  // Nothing is read: what the last check of it has found.
  void take_known(const FoundSet& set, SetReader& reader, PointVerdict& verdict) {
    const Id& id = set.facts().set;
    looks_[set.folder.sequence].lost = known_losses(id);
    take_lost(set, reader, verdict);
    if (verdict.lost.empty()) return;
    verdict.findings.push_back("the check of " + local_text(history_->checks(id).last->when) +
                               " found that parts of it do not read");
    new_damage_ = bad_places_ = true;
  }

  LostPlaces known_losses(const Id& set) const {
    if (history_ == nullptr) return {};
    const std::optional<CheckEntry> last = history_->checks(set).last;
    return last && !last->good ? last->lost : LostPlaces{};
  }

  // Nothing can be said of a point while a set that it needs cannot be read.
  bool lacks_what_it_needs(PointVerdict& verdict) {
    if (!verdict.unreadable.empty()) return true;
    for (std::size_t place : chain_.sets().needs().closure(*verdict.facts).met) {
      Sequence needed = chain_.sets().sealed_at(place).folder.sequence;
      if (!chunk_looks_.cannot_be_said(needed)) continue;
      verdict.unreadable = "set " + std::to_string(needed) + ", which it needs, could not be read";
      return true;
    }
    return false;
  }

  // True when it is for the caller to go on with: damage. What the system could not do ends the checking of
  // this point, or of everything. Where a bad place was found, it is that place that is met again.
  bool is_damage(PointVerdict& verdict, const Error& error) const {
    if (error.kind() == ErrorKind::key || (is_of_the_system(error) && !does_not_read(error))) throw error;
    if (!is_of_the_system(error) || bad_places_) return true;
    verdict.unreadable = error.what();
    return false;
  }

  void add_affected(PointVerdict& verdict, std::string path, std::string reason,
                    const std::set<BadPlaces::Place>& places = {}) {
    ++verdict.affected_count;
    bad_.affects(places, verdict.sequence, path);
    if (request_.affected != nullptr) {
      std::vector<BadPlace> where;
      for (const BadPlaces::Place place : places) where.push_back(bad_[place]);
      request_.affected->file(verdict.sequence, path, reason, where);
    }
    if (verdict.affected.size() < listed_files)
      verdict.affected.push_back({std::move(path), std::move(reason), {places.begin(), places.end()}});
  }

  // How long it is known already of each place.
  void date_places() {
    for (const auto& [sequence, look] : looks_) {
      const Id& id = chain_.sets().shared(sequence)->facts().set;
      const auto tell = [&](std::uint32_t slot, std::uint64_t frame) {
        const std::optional<BadPlaces::Place> place = bad_.at(sequence, slot, frame);
        const CheckRound::LostSince since = round_.lost_since(id, slot, frame);
        if (place) bad_.since(*place, since.read_well, since.found);
      };
      for (const std::uint32_t slot : look.lost.slots) tell(slot, 0);
      for (const auto& [slot, frames] : look.lost.frames) {
        for (const std::uint64_t frame : frames) tell(slot, frame);
      }
    }
  }

  // From the order in which they were met to the one in which they are told.
  void number_places() {
    std::vector<std::size_t> number;
    result_.places = bad_.merged(number);
    for (PointVerdict& verdict : result_.points) {
      for (AffectedFile& file : verdict.affected) {
        std::set<std::size_t> places;
        for (const std::size_t place : file.places) places.insert(number[place]);
        file.places.assign(places.begin(), places.end());
      }
    }
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
      if (!goes_through_list(point->set().facts())) {
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
    verdict.listed = verdict.unreadable.empty();
    if (verdict.listed && verdict.affected_count == 0) round_.proved(point->set().facts().set, list_of_point);
  }

  bool goes_through_list(const SetFacts& facts) {
    if (!deep()) return false;
    if (new_damage_ || request_.known || !in_parts()) return true;
    if (request_.depth == Depth::sample) return sample_.lists.contains(facts.sequence);
    if (!round_.is_due(facts.set, list_of_point)) return false;
    if (!round_.over()) return true;
    round_.leave(0);
    return false;
  }

  // The job file and the record of the run: needed to build a lost home again, not to restore.
  void check_record_chunks(PointVerdict& verdict, PointReader& point) {
    const Root& root = point.set().root();
    for (const ChunkRef& ref : {root.record, root.job_file, root.problems}) {
      if (ref.length != 0 && !chunk_looks_.present(point, ref))
        verdict.findings.push_back("the record of this set's run does not read");
    }
  }

  void check_entries(PointVerdict& verdict, PointReader& point, CatalogReader& catalog) {
    std::set<BadPlaces::Place> pages;
    catalog.on_page([&](const ChunkRef& page) {
      if (!chunk_looks_.present(point, page)) chunk_looks_.blame(point, page, pages);
    });
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
                         (gap.until ? " to " + printable(gap.until->absolute()) : std::string(" on")),
                     std::exchange(pages, {}));
        if (!more) return;
      }
    }
  }

  void check_entry(PointVerdict& verdict, PointReader& point, const Entry& entry) {
    bool good = true;
    std::uint64_t at = 0;
    std::string where;
    std::set<BadPlaces::Place> places;
    const auto miss = [&](const ChunkRef& ref, const std::string& what) {
      if (good) where = what;
      good = false;
      chunk_looks_.blame(point, ref, places);
    };
    if (entry.attribute_chunk && !chunk_looks_.present(point, *entry.attribute_chunk))
      miss(*entry.attribute_chunk, "its attributes are damaged");
    auto look = [&](const ContentItem& item) {
      if (item.kind != ItemKind::hole && !chunk_looks_.present(point, item.ref()))
        miss(item.ref(), "its content is damaged at byte " + std::to_string(at));
      if (item.kind != ItemKind::list) at += item.length;
    };
    try {
      walk_content(entry.content, point, look, look);
    } catch (const Error& error) {
      if (is_of_the_system(error) || error.kind() == ErrorKind::key) throw;
      if (good) where = "the list of its content is damaged at byte " + std::to_string(at);
      good = false;
    }
    if (!good) add_affected(verdict, entry.path.absolute(), where, places);
    if (good && result_.source && verdict.sequence == source_point_) compare_source(point, entry);
  }

  // Its pieces were read and have their names: so the file need only be compared with these.
  void compare_source(PointReader& point, const Entry& entry) {
    if (entry.type != EntryType::file || entry.incomplete) return;
    SourceTally& tally = *result_.source;
    const Today today = today_.look(entry);
    if (today == Today::gone) ++tally.gone;
    if (today == Today::differs) ++tally.changed;
    if (today == Today::unknown) ++tally.unread;
    if (today != Today::same) return;
    const FileHandle file = today_.open(entry);
    if (!file) {
      ++tally.unread;
    } else if (same_content(point, entry, file.get(), control_)) {
      ++tally.same;
    } else if (today_.look(entry) != Today::same) {
      ++tally.changed;  // just now
    } else if (tally.wrong++ < listed_files) {
      tally.wrong_paths.push_back(entry.path.absolute());
    }
  }

  ChainReader chain_;
  const VerifyRequest& request_;
  const Clock& clock_;
  History* history_;
  Observer& observer_;
  RunControl& control_;
  BadPlaces bad_;
  ChunkLooks chunk_looks_{chain_, bad_};
  std::map<Sequence, SetLook> looks_;
  CheckRound round_;
  CheckSample sample_;
  Sequence source_point_ = 0;
  DiskToday today_{true};
  bool new_damage_ = false, bad_places_ = false;
  std::optional<Error> closed_;
  VerifyResult result_;
};

}  // namespace

VerifyResult verify_sets(const Store& store, SetList sets, KeyRing& keys, const VerifyRequest& request,
                         const Clock& clock, History* history, Observer& observer, RunControl& control) {
  Verification verification(store, std::move(sets), keys, request, clock, history, observer, control);
  VerifyResult result = verification.run();
  if (history != nullptr && !request.known) verification.remember_all(result);
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
    if (sure && history != nullptr && !request.known) verification.remember_all(*result);
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

// Where the place has an identity of its own, and everything there is to be checked.
static std::string round_name(const LookSession& session, const VerifyRequest& request) {
  if (request.depth != Depth::all || request.at || request.known || !session.destination().drive) return {};
  return to_hex(session.destination().drive->id) + " " + to_hex(session.identity().job) +
         (request.round.budget.any() ? " in parts" : "");
}

VerifyResult verify(LookSession& session, const VerifyRequest& wanted, const Clock& clock, History* history,
                    Observer& observer, RunControl& control) {
  if (wanted.depth == Depth::source && session.identity().machine != wanted.machine)
    throw Error(ErrorKind::usage,
                "the files of these points are those of " + printable(session.identity().machine),
                "check them there, or without them: kestrum verify --depth all");
  VerifyRequest request = wanted;
  request.round.name = round_name(session, request);
  VerifyResult result = verify_current(session, request, clock, history, observer, control);
  const bool in_parts = request.depth == Depth::sample || !result.complete || result.went_on;
  if ((request.depth == Depth::quick || in_parts) && history != nullptr)
    add_known_damage(result, own_points(session, history));
  for (PointVerdict& verdict : result.points)
    verdict.expected = verdict.closed && session.opens_otherwise(verdict.facts->chain);
  result.findings = session.findings();
  for (const std::string& line : left_out_lines(session.sets())) result.findings.push_back(line);
  if (std::string gone = session.older_state(); !gone.empty()) result.findings.push_back(gone);
  return result;
}

}  // namespace kestrum
