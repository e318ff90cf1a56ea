// What may go, and why: a pure decision. The plan is a value that is shown and then carried out as it is.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <vector>

#include "base/set_facts.hpp"
#include "rules/keep_rules.hpp"

namespace kestrum {

// A sealed set of the job on one drive, as far as keeping goes. Its seal was authenticated, unless it is
// closed.
struct KeptSet {
  SetFacts facts;
  bool good = true;      // complete, no damage known
  bool suspect = false;  // kept as evidence, not counted
  // The key at hand does not open its chain: only its seal's word tells of it. It goes by the rules, but is
  // never folded, and lets no other set go.
  bool closed = false;
  // One that a person can count on: rules and floor count no others.
  bool counts() const { return good && !suspect && !facts.standing.given_up(); }
};

// What keeps everything from going.
enum class Hold { nothing, simulated_clock, suspect_point };

struct KeepQuestion {
  KeepRules rules = {};            // as the job has them; where it has none, the usual ones are taken
  bool endless = false;            // the chain is never renewed: its points go one by one, by folding
  bool may_fold = true;            // false: there is no room to fold, or it has just failed
  std::vector<KeptSet> sets = {};  // in order of sequence
  Instant now = {};
  std::uint64_t total = 0, free = 0;  // of the drive, bytes
  std::uint64_t reserve = 0;          // of the free ones, not to be used up: what folding needs for a while
  std::uint64_t make_room = 0;        // so many bytes more must fit within the limits
  std::uint64_t beside = 0;           // bytes of the job that are not in `sets`
  // Other jobs have sets on the drive. Then, and where most of what is used is not the job's, promises are
  // broken for limits of share (drive-limit, leave-free) only as far as the job itself adds something, unless
  // a person asks for it.
  bool other_jobs = false, by_hand = false;
  bool spare_promises = false;  // no rule is broken for room: there is another drive
  bool room_is_late = false;    // what was removed did not come free: nothing goes to make room
  // Of what folding frees at most, the share that it is known to free, in thousandths.
  unsigned fold_yield = 1000;
  Hold hold = Hold::nothing;
};

enum class Fate {
  stays,
  goes,   // the set is removed
  folds,  // its point goes; what other points need of it moves into the set it is folded into
};

// Which promise of [keep] wants a point.
struct Promise {
  enum class By : std::uint8_t { nobody, no_rule, points, chains, age, thin };
  By by = By::nobody;
  bool clock_behind = false;  // most sets are dated later than now: rules of time hold still
  unsigned away_days = 0;     // age, thin: so many days without a run do not count
  bool last_of_them = false;  // thin: the last good one of its hour, day, ...
  std::uint16_t thin = 0;     // which of those rules
  Sequence young = 0;         // age: the young point for which its chain stays; 0: it is young itself
  bool made() const { return by != By::nobody; }
  bool same_rule(const Promise& other) const { return by == other.by && thin == other.thin; }
};

// What overrides promises.
enum class Limit : std::uint8_t { next_set, job_limit, drive_limit, leave_free };

// Why a point stays or goes; fate_text words it.
struct FateReason {
  enum class Why : std::uint8_t {
    held,        // nothing goes
    kept,        // by name
    given_up,    // by name
    promised,    // see the promise
    newest,      // of all
    good_chain,  // the newest undamaged chain always stays
    floor,       // one of the last good points
    unwanted,    // by no promise
    needed,      // by `other`
    room,        // a limit overrides
  };
  Why why = Why::held;
  bool unfoldable = false;  // needed: it would be folded, but what is damaged is not
  // needed: the oldest wanted point that needs it. unwanted, room: of one that folds, the point that needs
  // what is in it.
  Sequence other = 0;
};

// A time in which the job made no point although it would have: the machine was off, the drive away, or the
// clock is wrong.
struct Absence {
  Instant from, until;
  std::int64_t seconds = 0;  // of it that the job's rhythm does not explain
};

struct SetFate {
  Sequence sequence = 0;
  Fate fate = Fate::stays;
  FateReason reason = {};
  Promise promise = {};     // that wants it, whether or not it is kept
  bool overridden = false;  // a limit overrides the promise
  bool misdated = false;    // the clock was wrong when it was made
  Sequence into = 0;        // folds: the last of its range
  std::uint64_t bytes = 0;  // stored
  Instant dated = {};       // from which rules of time count
  Sequence chain_end = 0;   // the newest set of its chain
};

// A promise that a limit overrides.
struct BrokenPromise {
  Promise promise;
  std::size_t points = 0;  // that it wants and that go
};

// Adds it to those of the same rule.
void add_broken(std::vector<BrokenPromise>& all, const BrokenPromise& one);

struct KeepStep {
  bool fold = false;  // else: remove `first`, which is `last`
  Sequence first = 0, last = 0;
};

struct KeepPlan {
  std::vector<SetFate> fates;         // in order of sequence
  std::map<Sequence, Standing> said;  // of points, by a person
  std::vector<KeepStep> steps;        // in the order in which they are safe to be killed in
  std::vector<BrokenPromise> broken;  // each rule once
  Hold held = Hold::nothing;
  KeepRules rules;              // that were acted on
  bool endless = false;         // as it was asked
  Limit tightest = {};          // of the limits
  std::uint64_t make_room = 0;  // as it was asked
  std::uint64_t frees = 0;      // by removing, exactly; folding frees more
  std::uint64_t excess = 0;     // by which the limits are overrun, folding not counted, after all this
  // The limits cannot be kept, or not without breaking promises for what others have put on the drive:
  // nothing is given up for that.
  bool out_of_reach = false;
  // Bytes that folding must free for what is planned. Where nothing is, because it would not do: the most
  // that folding might have freed, and what it would have had to.
  std::uint64_t by_folding = 0, most_hoped = 0, wanted_of_folding = 0;
  bool clock_behind = false;       // most points are dated later than now
  std::optional<Absence> absence;  // just before the newest point, or until now
  std::size_t points_left = 0;
  bool empty() const { return steps.empty(); }
  bool folds() const;
};

// What a person has said of a point wins. Then promises are looked at, then limits, oldest first; a set stays
// if any promise wants it, if a set that stays needs it, or if it holds one of the last good points. Nothing
// is given up for a limit that cannot be kept even so. Rules of time count the job's own days
// (plan/job_time), and hold still while most sets are dated later than now. Removing and folding what is
// planned leaves every other point complete. Carried out and asked again until it is empty, it keeps the
// limits where that can be done: what folding frees is not known before, so limits are met in several rounds.
KeepPlan plan_keep(const KeepQuestion& question);

// The same plan once it is known how much its folds really free: nothing is folded for a goal that folding
// does not reach. The more is folded, the larger the share that comes free: more and more is tried, at last
// all that may go. `asked.fold_yield` is what it comes to. `frees`: bytes that the folds of a plan free.
KeepPlan measured(KeepPlan plan, KeepQuestion& asked,
                  const std::function<std::uint64_t(const KeepPlan&)>& frees);

// Free bytes of the drive that are not used up by runs, so that folding can always begin; 0 for a job that
// never folds.
std::uint64_t fold_reserve(const KeepRules& rules, bool endless, std::uint64_t job_bytes);

// Bytes that a fold should free beside what it is made for, where `left` bytes of room are left within the
// limits.
std::uint64_t fold_ahead(std::uint64_t job_bytes, std::int64_t left);

// The same question with every point wanted that a person has not given up, and no limits.
KeepQuestion only_given_up(KeepQuestion question);

// The rules as they are acted on: those given, or where there are none, 30 days and 90 % of the drive.
KeepRules acting_rules(const KeepRules& given);

// How many bytes more may be written until the drive is full or a limit is reached. Negative: overrun.
// `reserve`: free bytes that are not to be used up.
std::int64_t room_left(const KeepRules& rules, std::uint64_t job_bytes, std::uint64_t total,
                       std::uint64_t free, std::uint64_t reserve = 0);
// The same for a run that has freed `freed` bytes by itself: where a limit of share is overrun, by whatever
// others have put on the drive, it may take as much as that, or a tenth of what is free.
std::int64_t room_for_run(const KeepRules& rules, std::uint64_t job_bytes, std::uint64_t total,
                          std::uint64_t free, std::uint64_t freed, std::uint64_t reserve = 0);
// Without the limits of share, which others have a part in.
KeepRules without_shares(KeepRules rules);

}  // namespace kestrum
