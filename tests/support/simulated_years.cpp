#include "support/simulated_years.hpp"

#include <algorithm>
#include <map>
#include <random>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "plan/chain_plan.hpp"
#include "plan/job_time.hpp"
#include "plan/keep_plan.hpp"

namespace kestrum::test {
namespace {

constexpr std::uint64_t mib = 1u << 20;

// The one among `sets` that meets the need, looked for one by one.
template <typename Sets>
const KeptSet* met_by(const Sets& sets, const SetNeed& need, const Id& chain) {
  for (const KeptSet& set : sets) {
    if (set.facts.meets(need, chain)) return &set;
  }
  return nullptr;
}

class Year {
 public:
  Year(std::uint64_t seed, YearsResult& out) : random_(seed), out_(out), follow_(seed % 2 == 1) {
    rules_.kind = static_cast<Kind>(pick(3));
    choose_renewal();
    choose_keeping();
    full_ = (20 + pick(2000)) * mib;
    share_ = 0.002 + unit() * 0.2;
    other_ = pick(4) == 0 ? pick(2000) * mib : 0;
    total_ = static_cast<std::uint64_t>(static_cast<double>(full_) * (1.5 + unit() * 20)) + other_;
    damage_ = pick(3) == 0 ? 0.02 : 0;
    people_ = pick(3) == 0;
    gap_ = pick(3) == 0 ? 3600.0 * static_cast<double>(1 + pick(12))
                        : 86400.0 * static_cast<double>(1 + pick(3));
  }

  std::string live(unsigned runs) {
    for (unsigned run = 0; run < runs && now_.seconds < year_; ++run) {
      now_.seconds += static_cast<std::int64_t>(gap_ * (0.3 + unit() * (pick(20) == 0 ? 10 : 1)));
      ++out_.runs;
      add_set();
      if (people_) say_something();
      if (std::string failure = prune(); !failure.empty())
        return failure + " in run " + std::to_string(run + 1) + ": " + describe();
    }
    return {};
  }

 private:
  static constexpr std::int64_t begin_ = 1800000000;
  static constexpr std::int64_t year_ = begin_ + 366 * 86400;

  unsigned pick(unsigned below) { return static_cast<unsigned>(random_() % below); }
  double unit() { return static_cast<double>(random_() % 10000) / 10000; }

  void choose_renewal() {
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

  void choose_keeping() {
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

  std::uint64_t job_bytes() const {
    std::uint64_t bytes = 0;
    for (const KeptSet& set : sets_) bytes += set.facts.totals.stored_bytes;
    return bytes;
  }

  void add_set() {
    std::vector<ChainSet> known;
    if (!sets_.empty()) {
      for (const KeptSet& set : sets_) {
        if (set.facts.chain != sets_.back().facts.chain) continue;
        known.push_back(
            {.facts = set.facts, .catalog_reads = set.good, .wholly_absent = false, .damaged = !set.good});
      }
    }
    KindDecision decision = decide_kind(rules_, known, ProtectionChange::none, {}, now_);
    KeptSet set;
    SetFacts& facts = set.facts;
    facts.sequence = ++sequence_;
    facts.set[0] = static_cast<std::uint8_t>(sequence_);
    facts.set[1] = static_cast<std::uint8_t>(sequence_ >> 8);
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
    if (!decision.chain) facts.chain[0] = static_cast<std::uint8_t>(sequence_), facts.chain[1] = facts.set[1];
    if (decision.chain) facts.chain = *decision.chain;
    facts.started = facts.ended = now_;
    facts.offset_seconds = local_offset_seconds(now_);
    double part = 1;
    if (decision.kind == Kind::incremental) part = share_ * (0.2 + unit());
    if (decision.kind == Kind::differential) part = std::min(1.0, share_ * static_cast<double>(known.size()));
    facts.totals.stored_bytes =
        std::max<std::uint64_t>(4096, static_cast<std::uint64_t>(part * static_cast<double>(full_)));
    sets_.push_back(set);
    if (damage_ > 0 && unit() < damage_) spoil(random_() % sets_.size());
  }

  // Somebody keeps a point, gives one up, or takes that back; the last good one is not given up.
  void say_something() {
    if (pick(12) != 0) return;
    Standing& standing = sets_[random_() % sets_.size()].facts.standing;
    const Standing before = standing;
    standing.is = static_cast<Standing::Is>(pick(3));
    if (good_points(sets_) == 0) standing = before;
  }

  // A damaged set spoils the points that need it.
  void spoil(std::size_t which) {
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

  KeepQuestion question() const {
    KeepQuestion question;
    question.rules = keep_;
    question.endless = endless_;
    question.sets = sets_;
    question.now = now_;
    question.total = total_;
    std::uint64_t used = job_bytes() + other_;
    question.free = used > total_ ? 0 : total_ - used;
    return question;
  }

  std::string prune() {
    std::size_t before = sets_.size();
    for (std::size_t round = 0;; ++round) {
      if (round > before + 2) return "pruning does not come to an end";
      KeepQuestion asked = question();
      KeepPlan plan = plan_keep(asked);
      ++out_.plans;
      if (std::string failure = check_plan(asked, plan); !failure.empty()) return failure;
      if (plan.empty()) return {};
      for (const KeepStep& step : plan.steps) {
        carry_out(step);
        // Killed here, everything that is left must be complete too.
        if (std::string failure = complete(); !failure.empty()) return failure;
      }
      if (std::string failure = check_after(asked); !failure.empty()) return failure;
    }
  }

  void carry_out(const KeepStep& step) {
    if (!step.fold) {
      ++out_.removed;
      std::erase_if(sets_, [&](const KeptSet& set) { return set.facts.sequence == step.first; });
      return;
    }
    ++out_.folds;
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
    folded.facts.folded_from = step.first;
    folded.facts.needs = needs;
    folded.facts.set[2] = static_cast<std::uint8_t>(folded.facts.set[2] + 1);
    folded.facts.totals.stored_bytes =
        largest + static_cast<std::uint64_t>(unit() * static_cast<double>(bytes - largest));
    std::erase_if(sets_, [&](const KeptSet& set) {
      return set.facts.chain == *chain && set.facts.sequence <= step.last &&
             set.facts.covers_from() >= step.first;
    });
    auto at = std::find_if(sets_.begin(), sets_.end(),
                           [&](const KeptSet& set) { return set.facts.sequence > step.last; });
    sets_.insert(at, folded);
  }

  std::string complete() const {
    for (const KeptSet& set : sets_) {
      for (const SetNeed& need : set.facts.needs) {
        if (met_by(sets_, need, set.facts.chain) == nullptr)
          return "point " + std::to_string(set.facts.sequence) + " needs " + std::to_string(need.sequence) +
                 ", which is gone";
      }
    }
    return {};
  }

  static std::size_t good_points(const std::vector<KeptSet>& sets) {
    return static_cast<std::size_t>(
        std::count_if(sets.begin(), sets.end(), [](const KeptSet& set) { return set.counts(); }));
  }

  // The newest chain in which everything is good.
  static std::optional<Id> good_chain(const std::vector<KeptSet>& sets) {
    struct Chain {
      Id id;
      bool good = true, any = false;
    };
    std::vector<Chain> chains;
    for (const KeptSet& set : sets) {
      if (chains.empty() || chains.back().id != set.facts.chain) chains.push_back({set.facts.chain});
      chains.back().good = chains.back().good && set.good;
      chains.back().any = chains.back().any || set.counts();
    }
    for (std::size_t i = chains.size(); i-- > 0;)
      if (chains[i].good && chains[i].any) return chains[i].id;
    return std::nullopt;
  }

  std::string check_after(const KeepQuestion& asked) const {
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
        return set.facts.standing.kept() ? "a point that is kept by name is gone"
                                         : "the newest point is gone";
    }
    return {};
  }

  // In the job's own days.
  bool young(const std::vector<KeptSet>& sets, std::size_t i, const Span& span) const {
    if (time_.away.size() != sets.size() || time_at_ != now_) {
      time_ = job_time(sets, now_);
      time_at_ = now_;
    }
    return sets[i].facts.started >= before({now_.seconds - time_.away[i], 0}, span);
  }

  // Slow and plain: does any promise want it?
  bool wanted(const std::vector<KeptSet>& sets, std::size_t i) const {
    KeepRules rules = acting_rules(keep_);
    const KeptSet& set = sets[i];
    if (set.facts.standing.given_up()) return false;
    if (!rules.age && !rules.chains && !rules.points && rules.thin.empty()) return true;
    auto of_chain = [&](const KeptSet& other) { return other.facts.chain == set.facts.chain; };
    if (rules.age) {
      if (young(sets, i, *rules.age)) return true;
      for (std::size_t j = 0; j < sets.size(); ++j)
        if (!endless_ && of_chain(sets[j]) && !sets[j].facts.standing.given_up() &&
            young(sets, j, *rules.age))
          return true;
    }
    if (rules.points) {
      std::size_t newer = 0;
      for (std::size_t j = i + 1; j < sets.size(); ++j) newer += sets[j].counts() ? 1 : 0;
      if (newer < *rules.points) return true;
    }
    if (rules.chains) {
      std::map<Id, bool> newer;
      bool passed = false;
      for (const KeptSet& other : sets) {
        if (of_chain(other)) passed = true;
        if (passed && !of_chain(other)) newer[other.facts.chain] |= other.counts();
      }
      auto good = std::count_if(newer.begin(), newer.end(), [](const auto& one) { return one.second; });
      if (static_cast<unsigned>(good) < *rules.chains) return true;
    }
    for (const ThinRule& rule : rules.thin) {
      if (rule.during && !young(sets, i, *rule.during)) continue;
      if (!rule.one_each) return true;
      // The last of those that are as good as one gets.
      bool last = true;
      for (std::size_t j = 0; j < sets.size(); ++j) {
        if (j == i || sets[j].facts.standing.given_up() ||
            !same_period(set.facts.started, sets[j].facts.started, *rule.one_each))
          continue;
        if (rule.during && !young(sets, j, *rule.during)) continue;
        last = last && (sets[j].good == set.good ? j < i : set.good);
      }
      if (last) return true;
    }
    return false;
  }

  static bool same_period(Instant a, Instant b, Span::Unit unit) {
    LocalMinute one = to_local(a), other = to_local(b);
    if (unit == Span::Unit::month) return one.year == other.year && one.month == other.month;
    // Both in the week that ends on the same Sunday.
    auto monday = [](Instant when) {
      LocalMinute date = to_local(when);
      Instant noon = from_local_earliest({date.year, date.month, date.day, 12, 0, 0});
      while (weekday_text(noon) != "Mon") noon = calendar_steps_before(noon, 1, 0);
      return to_local(noon);
    };
    LocalMinute x = monday(a), y = monday(b);
    return x.year == y.year && x.month == y.month && x.day == y.day;
  }

  // By one that stays.
  static bool is_needed(const std::vector<KeptSet>& sets, const KeepPlan& plan, std::size_t i) {
    for (std::size_t j = i + 1; j < sets.size(); ++j) {
      if (plan.fates[j].fate == Fate::goes) continue;
      for (const SetNeed& need : sets[j].facts.needs) {
        if (sets[i].facts.meets(need, sets[j].facts.chain)) return true;
      }
    }
    return false;
  }

  std::string check_plan(const KeepQuestion& asked, const KeepPlan& plan) {
    const std::vector<KeptSet>& sets = asked.sets;
    std::vector<bool> promised(sets.size());
    bool any_broken = false;
    for (std::size_t i = 0; i < sets.size(); ++i) {
      promised[i] = wanted(sets, i);
      bool dropped = plan.fates[i].fate != Fate::stays;
      if (dropped && promised[i] != plan.fates[i].overridden)
        return "point " + std::to_string(sets[i].facts.sequence) + " goes and its promise is misjudged";
      any_broken = any_broken || (dropped && promised[i]);
      if (!dropped && sets[i].facts.standing.given_up() && !is_needed(sets, plan, i))
        return "point " + std::to_string(sets[i].facts.sequence) + " was given up and stays";
    }
    if (!any_broken) return {};
    ++out_.broken;
    // Could it be kept? Not if the limits are overrun with everything removed that nothing promised needs.
    std::uint64_t unpromised = 0;
    std::vector<bool> needed = promised;
    for (std::size_t j = 0; j < sets.size(); ++j) needed[j] = needed[j] || sets[j].facts.standing.kept();
    for (std::size_t j = sets.size(); j-- > 0;) {
      for (const SetNeed& need : sets[j].facts.needs) {
        const KeptSet* met = met_by(sets, need, sets[j].facts.chain);
        if (needed[j] && met != nullptr) needed[static_cast<std::size_t>(met - sets.data())] = true;
      }
      if (!needed[j] && plan.fates[j].fate == Fate::goes) unpromised += sets[j].facts.totals.stored_bytes;
    }
    std::uint64_t bytes = job_bytes();
    std::int64_t room =
        room_left(acting_rules(keep_), bytes - unpromised, asked.total, asked.free + unpromised);
    if (room >= 0) return "a promise is broken though the limits hold without that";
    // Oldest first: what is promised, good for nothing else and older than a dropped chain does not stay.
    for (std::size_t i = 0; i < sets.size(); ++i) {
      if (plan.fates[i].fate == Fate::stays || !promised[i]) continue;
      for (std::size_t j = 0; j < i; ++j) {
        bool older_chain = sets[j].facts.chain != sets[i].facts.chain && plan.fates[j].fate == Fate::stays;
        if (!older_chain) continue;
        // Then it is one of the last good points, or its chain is protected or cannot be folded.
        std::size_t left = 0;  // good ones
        for (std::size_t k = 0; k < sets.size(); ++k)
          left += plan.fates[k].fate == Fate::stays && sets[k].counts() ? 1 : 0;
        bool chain_of_one =
            std::count_if(sets.begin(), sets.end(), [&](const KeptSet& set) {
              return set.facts.chain == sets[j].facts.chain &&
                     plan.fates[static_cast<std::size_t>(&set - sets.data())].fate == Fate::stays;
            }) == 1;
        bool any_bad = std::any_of(sets.begin(), sets.end(), [&](const KeptSet& set) {
          return set.facts.chain == sets[j].facts.chain && !set.good;
        });
        bool theirs = std::any_of(sets.begin(), sets.end(), [&](const KeptSet& set) {
          return set.facts.chain == sets[j].facts.chain && set.facts.standing.is != Standing::Is::by_rules;
        });
        if (!chain_of_one && !any_bad && !theirs && left > keep_.at_least + 1 && sets[j].good)
          return "point " + std::to_string(sets[j].facts.sequence) +
                 " stays though a newer promised one goes";
      }
    }
    return {};
  }

  std::string describe() const {
    std::vector<std::string> lines = keep_lines(keep_);
    std::string out = join(lines, "; ") + (endless_ ? "; endless" : "") + "; sets:";
    for (const KeptSet& set : sets_)
      out += " " + std::string(kind_name(set.facts.kind)).substr(0, 1) + std::to_string(set.facts.sequence) +
             (set.good ? "" : "!");
    return out;
  }

  std::mt19937_64 random_;
  YearsResult& out_;
  ChainRules rules_;
  KeepRules keep_;
  bool endless_ = false;
  bool people_ = false;  // say something of points
  bool follow_ = false;  // needs name the first set only
  std::uint64_t full_ = 0, other_ = 0, total_ = 0;
  double share_ = 0, damage_ = 0, gap_ = 0;
  std::vector<KeptSet> sets_;
  Sequence sequence_ = 0;
  Instant now_{begin_, 0};
  mutable JobTime time_;
  mutable Instant time_at_;
};

}  // namespace

YearsResult simulate_years(std::uint64_t first_seed, std::uint64_t years, unsigned most_runs) {
  YearsResult out;
  for (std::uint64_t seed = first_seed; seed < first_seed + years && out.failure.empty(); ++seed) {
    ++out.years;
    Year year(seed, out);
    std::string failure = year.live(most_runs);
    if (!failure.empty()) out.failure = "seed " + std::to_string(seed) + ": " + failure;
  }
  return out;
}

}  // namespace kestrum::test
