#include "plan/chain_plan.hpp"

#include <algorithm>

#include "base/text.hpp"

namespace kestrum {
namespace {

KindDecision new_full(std::string reason) {
  KindDecision decision;
  decision.reason = std::move(reason);
  return decision;
}

}  // namespace

KindDecision decide_kind(const ChainRules& rules, const std::vector<ChainSet>& sets,
                         const std::string& protection_changed, std::optional<Kind> wanted) {
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
  if (!wanted && rules.renew_every_sets && members.size() >= *rules.renew_every_sets) {
    return new_full("the chain has " + count_text(members.size(), "set") + ", and a full is due every " +
                    count_text(*rules.renew_every_sets, "set"));
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
  auto absent = [&](const SetNeed& need) {
    return std::none_of(members.begin(), members.end(), [&](const ChainSet* set) {
      return set->facts.set == need.set && !set->wholly_absent;
    });
  };
  decision.needs.push_back({base->facts.sequence, base->facts.set});
  if (kind == Kind::incremental) {
    for (const SetNeed& need : base->facts.needs) {
      if (!absent(need)) decision.needs.push_back(need);
    }
  }
  std::string word(kind_name(kind));
  decision.reason = (wanted ? "an " + word + " set was asked for" : "the job makes " + word + " sets");
  if (wanted && kind == Kind::differential) decision.reason = "a differential set was asked for";
  decision.reason += ", compared with set " + std::to_string(base->facts.sequence);
  return decision;
}

}  // namespace kestrum
