#include "plan/chain_plan.hpp"

#include <algorithm>

#include "base/set_needs.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

using Why = KindReason::Why;

KindDecision new_full(const KindReason& reason) {
  KindDecision decision;
  decision.reason = reason;
  return decision;
}

// Weeks since the last Monday before 1970, in local time.
std::int64_t local_week(Instant when) {
  std::int64_t days = (when.seconds + local_offset_seconds(when)) / 86400;
  return (days + 3) / 7;  // 1970-01-01 was a Thursday
}

SetNeeds needs_among(const std::vector<ChainSet>& sets) {
  std::vector<const SetFacts*> facts;
  for (const ChainSet& set : sets) facts.push_back(&set.facts);
  return SetNeeds(std::move(facts));
}

// How many sets a restore from the next one would take.
std::size_t next_restore(Kind kind, const std::vector<ChainSet>& sets) {
  if (kind == Kind::differential) return 2;
  std::size_t needed = 2;  // the next one, and the one it is compared with
  for (std::size_t place : needs_among(sets).closure(sets.back().facts).met)
    needed += sets[place].wholly_absent ? 0 : 1;
  return needed;
}

// Why a full set is due by the job's rules; nothing when none is.
std::optional<KindReason> full_due(const ChainRules& rules, const std::vector<ChainSet>& sets,
                                   const std::vector<const ChainSet*>& members, const ChainSet* full,
                                   Instant now) {
  const RenewRules& renew = rules.renew;
  // Sets that were made count, whether or not the rules have let them go.
  std::size_t made = members.back()->facts.sequence - members.front()->facts.covers_from() + 1;
  if (renew.every_sets && made >= *renew.every_sets)
    return KindReason{.why = Why::every_sets, .found = made, .allowed = *renew.every_sets};
  std::size_t needed = renew.restore_needs ? next_restore(rules.kind, sets) : 0;
  if (renew.restore_needs && needed > *renew.restore_needs)
    return KindReason{.why = Why::restore_needs, .found = needed, .allowed = *renew.restore_needs};
  if (full == nullptr) return std::nullopt;
  std::uint64_t on_it = 0;
  for (const ChainSet* set : members) {
    if (set->facts.sequence > full->facts.sequence) on_it += set->facts.totals.stored_bytes;
  }
  std::uint64_t own = full->facts.totals.stored_bytes;
  if (renew.outgrown && on_it / *renew.outgrown > own)
    return KindReason{.why = Why::outgrown, .found = on_it, .allowed = *renew.outgrown, .own = own};
  Instant begun = full->facts.started;
  if (now <= begun) return std::nullopt;
  if (renew.every && before(now, *renew.every) >= begun)
    return KindReason{.why = Why::every, .begun = begun, .span = *renew.every};
  if (!renew.month && !renew.week) return std::nullopt;
  LocalMinute then = to_local(begun), today = to_local(now);
  if (renew.month && (then.year != today.year || then.month != today.month))
    return KindReason{.why = Why::month};
  if (renew.week && local_week(begun) != local_week(now)) return KindReason{.why = Why::week};
  return std::nullopt;
}

}  // namespace

static std::vector<ChainSet> trusted_of(const std::vector<ChainSet>& all) {
  std::vector<ChainSet> sets;
  for (const ChainSet& set : all) {
    if (!set.facts.doubted()) sets.push_back(set);
  }
  return sets;
}

static KindDecision decide_among(const ChainRules& rules, const std::vector<ChainSet>& sets,
                                 ProtectionChange protection, std::optional<Kind> wanted, Instant now) {
  Kind kind = wanted.value_or(rules.kind);
  // A chain that goes on is better than no point.
  if (kind == Kind::full && !rules.full_fits && !sets.empty() && protection == ProtectionChange::none)
    kind = rules.kind == Kind::differential ? Kind::differential : Kind::incremental;
  if (kind == Kind::full) return new_full({.why = wanted ? Why::wanted : Why::job_kind});
  switch (protection) {
    case ProtectionChange::none:
      break;
    case ProtectionChange::turned_on:
      return new_full({.why = Why::turned_on});
    case ProtectionChange::turned_off:
      return new_full({.why = Why::turned_off});
    case ProtectionChange::new_passphrase:
      return new_full({.why = Why::new_passphrase});
  }
  if (sets.empty()) return new_full({.why = Why::first_set});

  const Id chain = sets.back().facts.chain;
  std::vector<const ChainSet*> members;
  members.reserve(sets.size());
  for (const ChainSet& set : sets) {
    if (same_id(set.facts.chain, chain)) members.push_back(&set);
  }
  const ChainSet* full = nullptr;
  for (const ChainSet* set : members) {
    if (set->facts.kind == Kind::full) full = set;
  }
  bool damaged =
      std::any_of(members.begin(), members.end(), [](const ChainSet* set) { return set->damaged; });
  if (!wanted && rules.renew.never() && damaged) return new_full({.why = Why::damaged_chain});
  std::optional<KindReason> due;
  if (!wanted) due = full_due(rules, sets, members, full, now);
  if (due && rules.full_fits) return new_full(*due);
  const ChainSet* base = nullptr;
  if (kind == Kind::differential) {
    if (full != nullptr && full->catalog_reads) base = full;
    if (base == nullptr) return new_full({.why = Why::full_unreadable});
  } else {
    for (const ChainSet* set : members) {
      if (set->catalog_reads) base = set;
    }
    if (base == nullptr) return new_full({.why = Why::none_readable});
  }

  KindDecision decision;
  decision.kind = kind;
  decision.base = base->facts.sequence;
  decision.chain = chain;
  decision.base_started = base->facts.started;
  decision.reason.why = wanted ? Why::wanted : Why::job_kind;
  if (!rules.full_fits) decision.reason.why = Why::full_does_not_fit;
  return decision;
}

KindDecision decide_kind(const ChainRules& rules, const std::vector<ChainSet>& all,
                         ProtectionChange protection, std::optional<Kind> wanted, Instant now) {
  // Nothing builds on what somebody has to look at first. There mostly is none, and a forecast asks very
  // often: then nothing is copied.
  const bool doubts =
      std::any_of(all.begin(), all.end(), [](const ChainSet& set) { return set.facts.doubted(); });
  return doubts ? decide_among(rules, trusted_of(all), protection, wanted, now)
                : decide_among(rules, all, protection, wanted, now);
}

KindDecision decide_by_time(const ChainRules& rules, const std::vector<ChainSet>& sets,
                            ProtectionChange protection, const std::vector<Phrase>& runs, Instant now) {
  std::optional<Kind> due;
  std::vector<Phrase> with_kind;
  for (const Phrase& phrase : runs) {
    if (phrase.kind) with_kind.push_back(phrase);
  }
  // What is longer ago than that is not worth looking for.
  constexpr std::int64_t longest = 400 * std::int64_t{86400};
  Instant at = sets.empty() ? now : sets.back().facts.started;
  at.seconds = std::max(at.seconds, now.seconds - longest);
  while (!with_kind.empty() && at < now) {
    std::vector<Occurrence> some = next_times(with_kind, at, 64);
    for (const Occurrence& one : some) {
      // A full set does for the other kinds too.
      if (one.when <= now && due != Kind::full) due = with_kind[one.phrase].kind;
    }
    if (some.empty()) break;
    at = some.back().when;
  }
  KindDecision decision = decide_kind(rules, sets, protection, due, now);
  if (decision.reason.why == Why::wanted) decision.reason.why = Why::its_time;
  return decision;
}

NewNeeds new_needs(const KindDecision& decision, const std::vector<ChainSet>& sets) {
  NewNeeds out;
  if (!decision.base) return out;
  auto base = std::find_if(sets.begin(), sets.end(), [&](const ChainSet& set) {
    return set.facts.chain == decision.chain && set.facts.sequence == *decision.base;
  });
  out.direct.push_back({base->facts.sequence, base->facts.set});
  out.all.push_back(base->facts.sequence);
  if (decision.kind != Kind::incremental) return out;
  SetNeeds::Closure below = needs_among(sets).closure(base->facts);
  for (std::size_t k = below.met.size(); k-- > 0;) {
    const ChainSet& set = sets[below.met[k]];
    (set.wholly_absent ? out.without : out.all).push_back(set.facts.sequence);
  }
  for (const SetNeed& need : below.missing) out.without.push_back(need.sequence);
  return out;
}

}  // namespace kestrum
