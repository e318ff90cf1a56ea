#include "support/simulated_job.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "support/keep_oracle.hpp"

namespace kestrum::test {
namespace {

constexpr std::uint64_t mib = 1u << 20;

// For whoever looks into a failure.
std::string plan_text(const KeepQuestion& asked, const KeepPlan& plan) {
  std::string out = " (" + size_text(asked.free) + " of " + size_text(asked.total) + " free, " +
                    size_text(asked.reserve) + " of them held back, " + size_text(asked.make_room) +
                    " wanted, " + local_text(asked.now) + (asked.may_fold ? "" : ", no folding") +
                    (asked.other_jobs ? ", other jobs" : "") + ";";
  for (const SetFate& fate : plan.fates)
    out += " " + std::to_string(fate.sequence) + "=" + size_text(fate.bytes) +
           (fate.fate == Fate::stays  ? ""
            : fate.fate == Fate::goes ? " goes"
                                      : " folds") +
           (fate.reason.why == FateReason::Why::room ? " for room" : "") + " of " + local_text(fate.dated);
  return out + ")";
}

}  // namespace

SimulatedJob::SimulatedJob(std::uint64_t seed, SimulatedDrive& drive, YearsResult& out)
    : random_(seed), drive_(drive), out_(out), follow_(seed % 2 == 1) {
  rules_.kind = static_cast<Kind>(pick(3));
  choose_renewal();
  choose_keeping();
  full_ = (20 + pick(2000)) * mib;
  share_ = 0.002 + unit() * 0.2;
  damage_ = pick(3) == 0 ? 0.02 : 0;
  people_ = pick(3) == 0;
  gap_ =
      pick(3) == 0 ? 3600.0 * static_cast<double>(1 + pick(12)) : 86400.0 * static_cast<double>(1 + pick(3));
}

std::int64_t SimulatedJob::seconds_to_next() {
  return static_cast<std::int64_t>(gap_ * (0.3 + unit() * (pick(20) == 0 ? 10 : 1)));
}

void SimulatedJob::choose_renewal() {
  switch (pick(7)) {
    case 0:
      endless_ = true;
      if (rules_.kind == Kind::full) rules_.kind = Kind::incremental;
      break;
    case 1:
      rules_.renew.every = Span{static_cast<unsigned>(2 + pick(60)), Span::Unit::day};
      break;
    case 2:
      rules_.renew.month = true;
      break;
    case 3:
      rules_.renew.outgrown = 1 + pick(3);
      break;
    case 4:
      rules_.renew.restore_needs = 3 + pick(30);
      break;
    default:
      rules_.renew.every_sets = 2 + pick(60);
  }
}

void SimulatedJob::choose_keeping() {
  if (pick(3) == 0) keep_.age = Span{static_cast<unsigned>(1 + pick(90)), Span::Unit::day};
  if (pick(4) == 0 && !endless_) keep_.chains = 1 + pick(5);
  if (pick(4) == 0) keep_.points = 1 + pick(60);
  if (pick(3) == 0) {
    keep_.thin.push_back({{}, Span{static_cast<unsigned>(1 + pick(20)), Span::Unit::day}});
    keep_.thin.push_back({Span::Unit::week, Span{static_cast<unsigned>(1 + pick(6)), Span::Unit::month}});
    if (pick(2) == 0) keep_.thin.push_back({Span::Unit::month, {}});
  }
  if (pick(3) == 0) keep_.drive_limit = 50 + pick(49);
  if (pick(4) == 0) keep_.job_limit = (50 + pick(6000)) * mib;
  if (pick(5) == 0) keep_.leave_free = pick(500) * mib;
  keep_.at_least = 1 + pick(5);
}

KeptSet SimulatedJob::next_set(Instant now) {
  std::vector<ChainSet> known;
  if (!sets_.empty()) {
    for (const KeptSet& set : sets_) {
      if (set.facts.chain != sets_.back().facts.chain) continue;
      known.push_back(
          {.facts = set.facts, .catalog_reads = set.good, .wholly_absent = false, .damaged = !set.good});
    }
  }
  KindDecision decision = decide_kind(rules_, known, ProtectionChange::none, {}, now);
  KeptSet set;
  SetFacts& facts = set.facts;
  facts.sequence = sequence_ + 1;
  facts.set[0] = static_cast<std::uint8_t>(facts.sequence);
  facts.set[1] = static_cast<std::uint8_t>(facts.sequence >> 8);
  facts.kind = decision.kind;
  facts.base = decision.base;
  // As complete lists, and as seals have them: the first of them, which bring along the others.
  NewNeeds needs = new_needs(decision, known);
  facts.needs_follow = follow_ && decision.base;
  facts.needs = needs.direct;
  for (std::size_t k = 1; !follow_ && k < needs.all.size(); ++k) {
    for (const ChainSet& one : known) {
      if (one.facts.sequence == needs.all[k]) facts.needs.push_back({needs.all[k], one.facts.set});
    }
  }
  if (!decision.chain)
    facts.chain[0] = static_cast<std::uint8_t>(facts.sequence), facts.chain[1] = facts.set[1];
  if (decision.chain) facts.chain = *decision.chain;
  facts.started = facts.ended = now;
  facts.offset_seconds = local_offset_seconds(now);
  double part = 1;
  if (decision.kind == Kind::incremental) part = share_ * (0.2 + unit());
  if (decision.kind == Kind::differential) part = std::min(1.0, share_ * static_cast<double>(known.size()));
  facts.totals.stored_bytes =
      std::max<std::uint64_t>(4096, static_cast<std::uint64_t>(part * static_cast<double>(full_)));
  return set;
}

// Somebody keeps a point, gives one up, or takes that back; the last good one is not given up.
void SimulatedJob::say_something() {
  if (pick(12) != 0) return;
  Standing& standing = sets_[random_() % sets_.size()].facts.standing;
  const Standing before = standing;
  standing.is = static_cast<Standing::Is>(pick(3));
  if (good_points(sets_) == 0) standing = before;
}

// A damaged set spoils the points that need it.
void SimulatedJob::spoil(std::size_t which) {
  sets_[which].good = false;
  std::vector<bool> spoilt(sets_.size(), false);
  spoilt[which] = true;
  for (std::size_t i = which + 1; i < sets_.size(); ++i) {
    for (const SetNeed& need : sets_[i].facts.needs) {
      const KeptSet* met = met_by(sets_, need, sets_[i].facts.chain);
      spoilt[i] = spoilt[i] || (met != nullptr && spoilt[static_cast<std::size_t>(met - sets_.data())]);
    }
    if (spoilt[i]) sets_[i].good = false;
  }
}

KeepQuestion SimulatedJob::question(Instant now, std::uint64_t make_room) const {
  KeepQuestion question;
  question.rules = keep_;
  question.endless = endless_;
  question.may_fold = may_fold_;
  question.sets = sets_;
  question.now = now;
  question.total = drive_.total;
  question.free = drive_.free();
  std::uint64_t held = 0;
  for (const KeptSet& set : sets_) held += set.facts.totals.stored_bytes;
  question.reserve = fold_reserve(keep_, endless_, held);
  question.make_room = make_room;
  question.other_jobs = !alone;
  question.room_is_late = late_;
  return question;
}

bool SimulatedJob::fits(const KeptSet& set) const {
  std::uint64_t held = 0;
  for (const KeptSet& one : sets_) held += one.facts.totals.stored_bytes;
  const std::int64_t room = room_for_run(acting_rules(keep_), held, drive_.total, drive_.free(), freed_,
                                         fold_reserve(keep_, endless_, held));
  return room > 0 && set.facts.totals.stored_bytes <= static_cast<std::uint64_t>(room);
}

std::string SimulatedJob::run(Instant now, Instant truly) {
  ++out_.runs;
  truly_ = truly;
  freed_ = 0;
  late_ = false;
  KeptSet set = next_set(now);
  for (int attempt = 0; attempt < 4 && !fits(set); ++attempt) {
    const std::size_t before = sets_.size();
    if (std::string failure = prune(now, set.facts.totals.stored_bytes); !failure.empty()) return failure;
    if (sets_.size() == before) break;
    set = next_set(now);  // the base may have gone
  }
  if (!fits(set)) {
    ++out_.full;
    if (!could_fit(set)) return {};
    const KeepQuestion asked = question(now, set.facts.totals.stored_bytes);
    return "a run finds no room though there would be some" + plan_text(asked, plan_keep(asked));
  }
  sequence_ = set.facts.sequence;
  truly_made_[sequence_] = truly;
  drive_.takes(set.facts.totals.stored_bytes);
  sets_.push_back(set);
  if (damage_ > 0 && unit() < damage_) spoil(random_() % sets_.size());
  if (people_) say_something();
  return prune(now, 0);
}

// With nothing left but what always stays: the last good points, what is kept, the newest chain, the newest
// good one, and what they need. Not where the room of what goes comes later.
bool SimulatedJob::could_fit(const KeptSet& set) const {
  if (late_ || drive_.withheld > 0 || sets_.empty()) return false;
  const std::optional<Id> good = good_chain(sets_);
  std::vector<KeptSet> stay;
  std::size_t floor = keep_.at_least;
  for (std::size_t i = sets_.size(); i-- > 0;) {
    const KeptSet& one = sets_[i];
    bool stays =
        one.facts.standing.kept() || one.facts.chain == sets_.back().facts.chain || one.facts.chain == good;
    if (one.counts() && floor > 0) stays = true, --floor;
    for (const KeptSet& user : stay) {
      for (const SetNeed& need : user.facts.needs) stays = stays || one.facts.meets(need, user.facts.chain);
    }
    if (stays) stay.push_back(one);
  }
  std::uint64_t held = 0, stayed = 0;
  for (const KeptSet& one : sets_) held += one.facts.totals.stored_bytes;
  for (const KeptSet& one : stay) stayed += one.facts.totals.stored_bytes;
  const std::uint64_t freed = held - stayed;
  const std::int64_t room = room_for_run(acting_rules(keep_), stayed, drive_.total, drive_.free() + freed,
                                         freed_ + freed, fold_reserve(keep_, endless_, stayed));
  return room >= 0 && set.facts.totals.stored_bytes <= static_cast<std::uint64_t>(room);
}

// As the engine's upkeep does it.
std::string SimulatedJob::prune(Instant now, std::uint64_t make_room) {
  const std::size_t before = sets_.size();
  may_fold_ = true;
  for (std::size_t round = 0;; ++round) {
    if (round > before + 2) return "pruning does not come to an end";
    const KeepQuestion asked = question(now, make_room);
    const KeepPlan plan = plan_keep(asked);
    ++out_.plans;
    if (std::string failure = check(asked, plan); !failure.empty()) return failure;
    if (plan.empty()) return {};
    for (const KeepStep& step : plan.steps) {
      const bool goes_on = carry_out(step);
      // Killed here, everything that is left must be complete too.
      if (std::string failure = complete(); !failure.empty()) return failure;
      if (!goes_on) break;
    }
    if (std::string failure = check_after(asked); !failure.empty()) return failure;
  }
}

std::string SimulatedJob::check(const KeepQuestion& asked, const KeepPlan& plan) {
  KeepOracle oracle(asked, plan);
  std::string failure = oracle.failure();
  out_.broken += oracle.breaks_a_promise() ? 1 : 0;
  if (failure.empty()) failure = too_young(asked, plan);
  return failure.empty() ? failure : failure + plan_text(asked, plan);
}

// By the true time, whatever the clock said then or says now: what is surely within a rule of age does not go
// by rules. Before the job's rhythm is known, for what it may explain, and
// where many dates are wrong, the clock is believed.
std::string SimulatedJob::too_young(const KeepQuestion& asked, const KeepPlan& plan) const {
  constexpr std::size_t known_rhythm = 8;
  if (!asked.rules.age || asked.sets.size() < known_rhythm) return {};
  const auto wrong = std::count_if(asked.sets.begin(), asked.sets.end(), [&](const KeptSet& set) {
    return set.facts.started != truly_made_.at(set.facts.sequence);
  });
  if (static_cast<std::size_t>(wrong) * 3 > asked.sets.size()) return {};
  const auto slack = static_cast<std::int64_t>(8 * 86400 + 20 * gap_);
  const Instant since = before({truly_.seconds + slack, 0}, *asked.rules.age);
  for (std::size_t i = 0; i < plan.fates.size(); ++i) {
    const SetFate& fate = plan.fates[i];
    if (fate.fate == Fate::stays || fate.reason.why != FateReason::Why::unwanted) continue;
    if (truly_made_.at(fate.sequence) > since)
      return "point " + std::to_string(fate.sequence) + " goes by age and is young by the true time";
  }
  return {};
}

// False when the plan is not gone on with.
bool SimulatedJob::carry_out(const KeepStep& step) {
  if (step.fold) return fold(step);
  const std::uint64_t free = drive_.free();
  remove(step.first);
  late_ = drive_.free() <= free;
  return !late_;
}

void SimulatedJob::remove(Sequence sequence) {
  ++out_.removed;
  auto found = std::find_if(sets_.begin(), sets_.end(),
                            [&](const KeptSet& set) { return set.facts.sequence == sequence; });
  drive_.lets_go(found->facts.totals.stored_bytes);
  if (!drive_.frees_late) freed_ += found->facts.totals.stored_bytes;
  sets_.erase(found);
}

// Needs a part of what it writes for a while; without it nothing is folded any more.
bool SimulatedJob::fold(const KeepStep& step) {
  KeptSet folded;
  std::uint64_t bytes = 0, largest = 0;
  std::vector<SetNeed> needs;
  std::optional<Id> chain;
  for (const KeptSet& set : sets_) {
    if (set.facts.sequence > step.last || set.facts.covers_from() < step.first) continue;
    if (!chain) chain = set.facts.chain;
    if (set.facts.chain != *chain) continue;
    Kind kind = folded.facts.kind;
    bool first = folded.facts.sequence == 0;
    bytes += set.facts.totals.stored_bytes;
    largest = std::max(largest, set.facts.totals.stored_bytes);
    for (const SetNeed& need : set.facts.needs)
      if (need.sequence < step.first) needs.push_back(need);
    folded = set;
    folded.facts.kind = first ? set.facts.kind : kind;
  }
  may_fold_ = bytes / 64 + mib <= drive_.free();
  if (!may_fold_) return false;
  ++out_.folds;
  folded.facts.folded_from = step.first;
  folded.facts.needs = needs;
  folded.facts.set[2] = static_cast<std::uint8_t>(folded.facts.set[2] + 1);
  folded.facts.totals.stored_bytes =
      largest + static_cast<std::uint64_t>(unit() * static_cast<double>(bytes - largest));
  drive_.takes(folded.facts.totals.stored_bytes);
  drive_.lets_go(bytes);
  std::erase_if(sets_, [&](const KeptSet& set) {
    return set.facts.chain == *chain && set.facts.sequence <= step.last &&
           set.facts.covers_from() >= step.first;
  });
  auto at = std::find_if(sets_.begin(), sets_.end(),
                         [&](const KeptSet& set) { return set.facts.sequence > step.last; });
  sets_.insert(at, folded);
  return true;
}

std::string SimulatedJob::complete() const {
  for (const KeptSet& set : sets_) {
    for (const SetNeed& need : set.facts.needs) {
      if (met_by(sets_, need, set.facts.chain) == nullptr)
        return "point " + std::to_string(set.facts.sequence) + " needs " + std::to_string(need.sequence) +
               ", which is gone";
    }
  }
  return {};
}

std::string SimulatedJob::check_after(const KeepQuestion& asked) const {
  std::size_t had = good_points(asked.sets);
  if (good_points(sets_) < std::min<std::size_t>(had, keep_.at_least)) return "the floor does not hold";
  std::optional<Id> chain = good_chain(asked.sets);
  bool there = !chain || std::any_of(sets_.begin(), sets_.end(),
                                     [&](const KeptSet& set) { return set.facts.chain == *chain; });
  if (!there) return "the newest undamaged chain is gone";
  auto newest = std::find_if(asked.sets.rbegin(), asked.sets.rend(),
                             [](const KeptSet& set) { return !set.facts.standing.given_up(); });
  for (const KeptSet& set : asked.sets) {
    bool must_stay = set.facts.standing.kept() ||
                     (newest != asked.sets.rend() && newest->facts.sequence == set.facts.sequence);
    if (must_stay && std::none_of(sets_.begin(), sets_.end(), [&](const KeptSet& one) {
          return one.facts.sequence == set.facts.sequence && one.facts.standing.is == set.facts.standing.is;
        }))
      return set.facts.standing.kept() ? "a point that is kept by name is gone" : "the newest point is gone";
  }
  return {};
}

std::string SimulatedJob::describe() const {
  std::vector<std::string> lines = keep_lines(keep_);
  std::string out = join(lines, "; ") + (endless_ ? "; endless" : "") + "; sets:";
  for (const KeptSet& set : sets_)
    out += " " + std::string(kind_name(set.facts.kind)).substr(0, 1) + std::to_string(set.facts.sequence) +
           (set.good ? "" : "!");
  return out;
}

}  // namespace kestrum::test
