// Which kind of set comes next, and why: a pure decision.
#pragma once

#include <optional>
#include <vector>

#include "base/set_facts.hpp"
#include "calendar/phrase.hpp"
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
enum class ProtectionChange { none, turned_on, turned_off, new_passphrase };

struct ChainRules {
  Kind kind = Kind::incremental;
  RenewRules renew;       // a full at the latest then
  bool full_fits = true;  // on the drive; else the chain goes on, if that can be
};

// Why the next set is of its kind; kind_reason_text words it.
struct KindReason {
  enum class Why {
    its_time,           // the job's times say so
    wanted,             // a person asked for it
    job_kind,           // the job makes such sets
    first_set,          // on this destination
    turned_on,          // encryption
    turned_off,         // encryption
    new_passphrase,     // which opens nothing that is there
    damaged_chain,      // of a job that folds its chain for ever
    full_does_not_fit,  // one is due or asked for by the job
    every_sets,         // `found` sets were made in the chain, `allowed` by the rule
    restore_needs,      // `found` sets, of which `allowed` may be
    outgrown,           // the sets on the full one hold `found` bytes, over `allowed` times its `own`
    every,              // the full set is of `begun`, and one is due every `span`
    month,              // the first run of it
    week,               // the first run of it
    full_unreadable,    // what a differential would be compared with
    none_readable,      // no set of the chain has a list of files that reads
  };
  Why why = Why::first_set;
  std::uint64_t found = 0, allowed = 0, own = 0;
  Instant begun = {};
  Span span = {};
  // Everything is saved anew because what is there is damaged.
  bool is_damage() const {
    return why == Why::damaged_chain || why == Why::full_unreadable || why == Why::none_readable;
  }
};

struct KindDecision {
  Kind kind = Kind::full;
  std::optional<Sequence> base;  // compared with
  Instant base_started;          // of the base
  std::optional<Id> chain;       // continued; none: a new chain begins
  KindReason reason;
};

// `sets`: in order of sequence. `wanted`: the person's choice for this run. `now`: for rules of days,
// weeks and months; they hold still when it lies before the full set.
KindDecision decide_kind(const ChainRules& rules, const std::vector<ChainSet>& sets,
                         ProtectionChange protection, std::optional<Kind> wanted, Instant now);

// The same without a person's choice: a kind that goes with one of the job's times is made by the first run
// at or after it. `runs`: those that count.
KindDecision decide_by_time(const ChainRules& rules, const std::vector<ChainSet>& sets,
                            ProtectionChange protection, const std::vector<Phrase>& runs, Instant now);

// What a set of that decision needs, as its seal says it: the base, which brings along what it needs itself;
// less what counts as wholly absent.
struct NewNeeds {
  std::vector<SetNeed> direct;
  std::vector<Sequence> without;
  std::vector<Sequence> all;  // sets that it may refer to, the newest first
};
NewNeeds new_needs(const KindDecision& decision, const std::vector<ChainSet>& sets);

}  // namespace kestrum
