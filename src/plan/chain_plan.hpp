// Which kind of set comes next, and why: a pure decision.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/set_facts.hpp"
#include "rules/renew_rules.hpp"

namespace kestrum {

// A sealed set of the job on this destination, as far as choosing a base goes.
struct ChainSet {
  SetFacts facts;
  bool catalog_reads = true;   // the catalog still reads whole
  bool wholly_absent = false;  // nothing of it can be read
  bool damaged = false;        // something of it is known not to read
};

// The job asks for another protection than the newest chain has: that needs a new chain.
enum class ProtectionChange { none, turned_on, turned_off };

struct ChainRules {
  Kind kind = Kind::incremental;
  RenewRules renew;  // a full at the latest then
};

struct KindDecision {
  Kind kind = Kind::full;
  std::optional<Sequence> base;  // compared with
  Instant base_started;          // of the base
  std::optional<Id> chain;       // continued; none: a new chain begins
  std::string reason;            // plain words
};

// `sets`: in order of sequence. `wanted`: the person's choice for this run. `now`: for rules of days,
// weeks and months; they hold still when it lies before the full set.
KindDecision decide_kind(const ChainRules& rules, const std::vector<ChainSet>& sets,
                         ProtectionChange protection, std::optional<Kind> wanted, Instant now);

// What a set of that decision needs, as its seal says it: the base, which brings along what it needs itself;
// less what counts as wholly absent.
struct NewNeeds {
  std::vector<SetNeed> direct;
  std::vector<Sequence> without;
  std::vector<Sequence> all;  // sets that it may refer to, the newest first
};
NewNeeds new_needs(const KindDecision& decision, const std::vector<ChainSet>& sets);

}  // namespace kestrum
