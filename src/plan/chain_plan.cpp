#include "plan/chain_plan.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

KindDecision new_full(std::string reason) {
  KindDecision decision;
  decision.reason = std::move(reason);
  return decision;
}

// Weeks since the last Monday before 1970, in local time.
std::int64_t local_week(Instant when) {
  std::int64_t days = (when.seconds + local_offset_seconds(when)) / 86400;
  return (days + 3) / 7;  // 1970-01-01 was a Thursday
}

// The sets of the chain that stand for `needs` now, without those of which nothing can be read.
std::vector<SetNeed> standing_for(const std::vector<SetNeed>& needs,
                                  const std::vector<const ChainSet*>& members) {
  std::vector<SetNeed> out;
  for (const SetNeed& need : needs) {
    for (const ChainSet* set : members) {
      if (set->wholly_absent || !set->facts.meets(need, set->facts.chain)) continue;
      bool there = std::any_of(out.begin(), out.end(),
                               [&](const SetNeed& other) { return other.set == set->facts.set; });
      if (!there) out.push_back({set->facts.sequence, set->facts.set});
      break;
    }
  }
  return out;
}

// Why a full set is due by the job's rules; empty when none is.
std::string full_due(const ChainRules& rules, const std::vector<const ChainSet*>& members,
                     const ChainSet* full, Instant now) {
  const RenewRules& renew = rules.renew;
  if (renew.every_sets && members.size() >= *renew.every_sets)
    return "the chain has " + count_text(members.size(), "set") + ", and a full is due every " +
           count_text(*renew.every_sets, "set");
  // A set that is compared with the newest needs all that this one needs, and it.
  std::size_t needed =
      rules.kind == Kind::incremental ? standing_for(members.back()->facts.needs, members).size() + 2 : 2;
  if (renew.restore_needs && needed > *renew.restore_needs)
    return "a restore would need " + count_text(needed, "set") + ", and " +
           std::to_string(*renew.restore_needs) + " are allowed";
  if (full == nullptr) return {};
  std::uint64_t on_it = 0;
  for (const ChainSet* set : members) {
    if (set->facts.sequence > full->facts.sequence) on_it += set->facts.totals.stored_bytes;
  }
  std::uint64_t own = full->facts.totals.stored_bytes;
  if (renew.outgrown && on_it / *renew.outgrown > own)
    return "the sets on the full one hold " + size_text(on_it) + ", more than " +
           count_text(*renew.outgrown, "time") + " its " + size_text(own);
  Instant begun = full->facts.started;
  if (now <= begun) return {};
  if (renew.every && before(now, *renew.every) >= begun)
    return "the full set is of " + local_text(begun) + ", and one is due every " + renew.every->text();
  LocalMinute then = to_local(begun), today = to_local(now);
  if (renew.month && (then.year != today.year || then.month != today.month))
    return "it is the first run of the month";
  if (renew.week && local_week(begun) != local_week(now)) return "it is the first run of the week";
  return {};
}

}  // namespace

KindDecision decide_kind(const ChainRules& rules, const std::vector<ChainSet>& sets,
                         const std::string& protection_changed, std::optional<Kind> wanted, Instant now) {
  Kind kind = wanted.value_or(rules.kind);
  if (kind == Kind::full)
    return new_full(wanted ? "a full set was asked for" : "the job makes full sets only");
  if (sets.empty()) return new_full("it is the first set on this destination");
  if (!protection_changed.empty()) return new_full(protection_changed);

  const Id chain = sets.back().facts.chain;
  std::vector<const ChainSet*> members;
  for (const ChainSet& set : sets) {
    if (set.facts.chain == chain) members.push_back(&set);
  }
  const ChainSet* full = nullptr;
  for (const ChainSet* set : members) {
    if (set->facts.kind == Kind::full) full = set;
  }
  bool damaged =
      std::any_of(members.begin(), members.end(), [](const ChainSet* set) { return set->damaged; });
  if (!wanted && rules.renew.never() && damaged)
    return new_full("the chain is damaged, and folding it for ever would carry that on");
  if (!wanted) {
    if (std::string due = full_due(rules, members, full, now); !due.empty()) return new_full(due);
  }
  const ChainSet* base = nullptr;
  if (kind == Kind::differential) {
    if (full != nullptr && full->catalog_reads) base = full;
    if (base == nullptr) return new_full("the chain's full set does not read whole any more");
  } else {
    for (const ChainSet* set : members) {
      if (set->catalog_reads) base = set;
    }
    if (base == nullptr) return new_full("no set of the chain has a list of files that still reads whole");
  }

  KindDecision decision;
  decision.kind = kind;
  decision.base = base->facts.sequence;
  decision.chain = chain;
  decision.needs.push_back({base->facts.sequence, base->facts.set});
  if (kind == Kind::incremental) {
    for (const SetNeed& need : standing_for(base->facts.needs, members)) decision.needs.push_back(need);
  }
  std::string word(kind_name(kind));
  decision.reason = (wanted ? "an " + word + " set was asked for" : "the job makes " + word + " sets");
  if (wanted && kind == Kind::differential) decision.reason = "a differential set was asked for";
  decision.reason += ", compared with set " + std::to_string(base->facts.sequence);
  return decision;
}

}  // namespace kestrum
