// What the plan of what may go works on: the sets, who needs whom, and what was decided so far. Inside the
// layer.
#pragma once

#include <limits>
#include <span>

#include "plan/job_time.hpp"
#include "plan/keep_promises.hpp"

namespace kestrum {

constexpr std::size_t nobody = std::numeric_limits<std::size_t>::max();

// Sets go by their place in the question. The question must outlive it.
struct KeepModel {
  explicit KeepModel(const KeepQuestion& question);

  bool stays(std::size_t i) const { return !gone[i] && into[i] == nobody; }
  bool counts(std::size_t i) const { return sets[i].counts(); }
  std::uint64_t stored(std::size_t i) const { return sets[i].facts.totals.stored_bytes; }
  bool promised(std::size_t i) const { return wanted_by[i].made(); }
  // A person has said that it stays.
  bool kept(std::size_t i) const { return sets[i].facts.standing.kept(); }
  // Giving it up breaks a rule.
  bool by_a_rule(std::size_t i) const { return promised(i) && wanted_by[i].by != Promise::By::no_rule; }
  Sequence point(std::size_t i) const { return sets[i].facts.sequence; }
  std::size_t chains() const { return members_begin_.size() - 1; }
  std::span<const std::size_t> members(std::size_t c) const {
    return std::span(members_).subspan(members_begin_[c], members_begin_[c + 1] - members_begin_[c]);
  }
  // Sets that `i` needs, directly.
  std::span<const std::size_t> needs(std::size_t i) const {
    return std::span(needs_).subspan(needs_begin_[i], needs_begin_[i + 1] - needs_begin_[i]);
  }

  // Chains that may not go whole: what the next run builds on, the newest good point's, and the newest one in
  // which everything is good.
  bool whole_chain_stays(std::size_t c) const;
  // Whether the floor lets so many good points go.
  bool floor_allows(std::size_t good_points) const;
  // For each set, the one that holds what it held: later ones in its chain.
  std::vector<std::size_t> holders() const;
  // For each set, the oldest staying one that needs it; nobody when none does.
  std::vector<std::size_t> needed_by() const;
  // What the wanted sets need, directly or through others.
  std::vector<bool> closure(const std::vector<bool>& wanted) const;

  // Into the next set of its chain that stays and, where `targets` is given, is one of them; nothing damaged
  // may lie between. False when there is none.
  bool try_fold(std::size_t i, const std::vector<bool>* targets = nullptr);

  std::uint64_t removed_bytes() const;
  // The most that folding can free: of two sets with the same content the smaller one.
  std::uint64_t hoped_from_folds() const;
  // Of what folding may free at most, what it is known to free.
  std::uint64_t yielded(std::uint64_t hoped) const;
  // By which the limits are overrun. `with_folds`: as if folding freed as much as it can.
  std::uint64_t excess(bool with_folds) const { return excess(with_folds, false); }
  // `own`: of limits of share only as far as this job itself would overrun them further.
  std::uint64_t excess(bool with_folds, bool own) const;

  const KeepQuestion& question;
  const KeepRules rules;  // that are acted on
  const std::vector<KeptSet>& sets;
  std::vector<std::size_t> chain;  // of each set
  JobTime time;
  std::vector<Promise> wanted_by;
  std::uint64_t job_bytes = 0;
  std::size_t newest_good = nobody;
  std::size_t good_chain = nobody;  // the newest in which everything is good

  // What was decided so far.
  struct Decided {
    std::vector<std::size_t> into;  // folded into
    std::vector<bool> gone;
    std::vector<FateReason> reason;
    std::vector<bool> overridden;  // promised, and given up all the same
  };
  Decided decided() const { return {into, gone, reason, overridden}; }
  void decide(Decided as) {
    into = std::move(as.into);
    gone = std::move(as.gone);
    reason = std::move(as.reason);
    overridden = std::move(as.overridden);
  }
  std::vector<std::size_t> into;
  std::vector<bool> gone;
  std::vector<FateReason> reason;
  std::vector<bool> overridden;

 private:
  std::size_t next_in_chain(std::size_t i) const;
  std::vector<std::size_t> place_;    // in its chain
  std::vector<std::size_t> members_;  // of all chains, one after the other
  std::vector<std::size_t> members_begin_;
  std::vector<std::size_t> needs_;  // of all, one set's after the other's
  std::vector<std::size_t> needs_begin_;
};

// The limit that leaves least room.
Limit tightest_limit(const KeepModel& model);
// What giving points up for the limits comes to.
struct LimitsMet {
  bool kept = true;              // the limits are
  std::uint64_t by_folding = 0;  // bytes that folding must free for what was planned
  // Where nothing was planned, because it would not do: the most that folding might have freed, and what it
  // would have had to.
  std::uint64_t most_hoped = 0, wanted = 0;
};
// Gives points up, oldest first, until the limits are kept. Where they cannot be, nothing is given up.
LimitsMet meet_limits(KeepModel& model);

}  // namespace kestrum
