#include "engine/verify.hpp"

#include <algorithm>

#include "base/random.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/check_sample.hpp"
#include "engine/chunk_looks.hpp"
#include "engine/gone_points.hpp"
#include "engine/point_check.hpp"

namespace kestrum {
namespace {

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
      check_points();
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
    damaged_ = damaged_ || !found.findings.empty();
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
    damaged_ = bad_places_ = true;
  }

  LostPlaces known_losses(const Id& set) const {
    if (history_ == nullptr) return {};
    const std::optional<CheckEntry> last = history_->checks(set).last;
    return last && !last->good ? last->lost : LostPlaces{};
  }

  void check_points() {
    PointCheck check(chain_, bad_, chunk_looks_, round_,
                     {request_, sample_, in_parts(), damaged_, bad_places_}, control_);
    if (result_.source) check.compare_with_disk(source_point_, *result_.source);
    for (PointVerdict& verdict : result_.points) {
      if (verdict.facts && !lacks_what_it_needs(verdict)) check.go_through(verdict);
    }
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
  bool damaged_ = false, bad_places_ = false;
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
    // What only lacks its key was not checked, and is told as that.
    SetList sets = session.job() ? session.proved_sets() : with_closed(session.proved_sets());
    Verification verification(session.store(), std::move(sets), session.keys(), request, clock, history,
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
  for (const std::string& line : gone_lines(session)) result.findings.push_back(line);
  return result;
}

}  // namespace kestrum
