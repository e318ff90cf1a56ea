// Which kind of set comes next, and why: a pure decision.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/set_facts.hpp"
#include "job/renew_rules.hpp"

namespace kestrum {

// A sealed set of the job on this destination, as far as choosing a base goes.
struct ChainSet {
  SetFacts facts;
  bool catalog_reads = true;   // the catalog still reads whole
  bool wholly_absent = false;  // nothing of it can be read
  bool damaged = false;        // something of it is known not to read
};

struct ChainRules {
  Kind kind = Kind::incremental;
  RenewRules renew;  // a full at the latest then
};

struct KindDecision {
  Kind kind = Kind::full;
  std::optional<Sequence> base;  // compared with
  std::vector<SetNeed> needs;    // what the new set may refer to
  std::optional<Id> chain;       // continued; none: a new chain begins
  std::string reason;            // plain words
};

// `sets`: in order of sequence. `protection_changed`: the job asks for another protection than the newest
// chain has, in words, empty when not. `wanted`: the person's choice for this run. `now`: for rules of days,
// weeks and months; they hold still when it lies before the full set.
KindDecision decide_kind(const ChainRules& rules, const std::vector<ChainSet>& sets,
                         const std::string& protection_changed, std::optional<Kind> wanted, Instant now);

}  // namespace kestrum
