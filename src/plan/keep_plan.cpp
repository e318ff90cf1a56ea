#include "plan/keep_plan.hpp"

#include <algorithm>

#include "plan/keep_model.hpp"

namespace kestrum {
namespace {

using Why = FateReason::Why;

class KeepPlanner {
 public:
  explicit KeepPlanner(const KeepQuestion& question)
      : model_(question), folding_(question.may_fold && (question.endless || !model_.rules.thin.empty())) {}

  KeepPlan plan() {
    if (model_.question.hold == Hold::nothing && !model_.sets.empty()) {
      by_promises();
      reach_ = meet_limits(model_);
    }
    return result();
  }

 private:
  // What promises want, and what stays whatever they say; the rest goes, or folds where something needs it.
  void by_promises() {
    wanted_.assign(model_.sets.size(), false);
    for (std::size_t i = 0; i < wanted_.size(); ++i) {
      if (standing(i).kept()) want(i, Why::kept);
      if (model_.promised(i)) want(i, Why::promised);
    }
    want_newest();
    want_good_chain();
    want_floor();
    for (std::size_t i = 0; i < wanted_.size(); ++i) {
      if (wanted_[i]) continue;
      model_.gone[i] = !needed_[i];
      model_.reason[i].why = standing(i).given_up() ? Why::given_up : Why::unwanted;
    }
    fold_or_keep_needed();
  }

  const Standing& standing(std::size_t i) const { return model_.sets[i].facts.standing; }

  void want_newest() {
    for (std::size_t i = wanted_.size(); i-- > 0;) {
      if (!standing(i).given_up()) return want(i, Why::newest);
    }
  }

  void want(std::size_t i, Why why) {
    if (!wanted_[i]) model_.reason[i].why = why;
    wanted_[i] = true;
  }

  void want_good_chain() {
    if (model_.good_chain != nobody) {
      std::span<const std::size_t> chain = model_.members(model_.good_chain);
      if (std::none_of(chain.begin(), chain.end(), [&](std::size_t i) { return wanted_[i]; }))
        want(*std::find_if(chain.rbegin(), chain.rend(), [&](std::size_t i) { return model_.counts(i); }),
             Why::good_chain);
    }
    needed_ = model_.closure(wanted_);
  }

  // The floor counts what stays as a point of its own.
  void want_floor() {
    auto left = [&] {
      std::size_t count = 0;
      for (std::size_t i = 0; i < wanted_.size(); ++i)
        count += model_.counts(i) && (wanted_[i] || (needed_[i] && !folding_)) ? 1 : 0;
      return count;
    };
    for (std::size_t i = wanted_.size(); i-- > 0 && left() < model_.rules.at_least;) {
      if (!model_.counts(i) || wanted_[i]) continue;
      want(i, Why::floor);
      needed_ = model_.closure(wanted_);
    }
  }

  void fold_or_keep_needed() {
    std::vector<std::size_t> user(wanted_.size(),
                                  nobody);  // the oldest wanted one, directly or through others
    for (std::size_t j = wanted_.size(); j-- > 0;) {
      std::size_t by = wanted_[j] ? j : user[j];
      for (std::size_t need : model_.needs(j)) user[need] = std::min(user[need], by);
    }
    for (std::size_t i = 0; i < wanted_.size(); ++i) {
      if (wanted_[i] || !needed_[i]) continue;
      const bool given_up = standing(i).given_up();
      const bool folds = folding_ || (given_up && model_.question.may_fold);
      if (folds && model_.try_fold(i, &wanted_)) {
        model_.reason[i] = {.why = given_up ? Why::given_up : Why::unwanted,
                            .other = model_.point(model_.into[i])};
      } else {
        model_.reason[i] = {.why = given_up ? Why::given_up : Why::needed,
                            .unfoldable = folds,
                            .other = model_.point(user[i])};
      }
    }
  }

  KeepPlan result() const {
    KeepPlan plan;
    plan.held = model_.question.hold;
    plan.rules = model_.rules;
    plan.endless = model_.question.endless;
    plan.make_room = model_.question.make_room;
    plan.tightest = tightest_limit(model_);
    plan.out_of_reach = !reach_.kept;
    plan.by_folding = reach_.by_folding;
    plan.most_hoped = reach_.most_hoped;
    plan.wanted_of_folding = reach_.wanted;
    plan.clock_behind = model_.time.now_is_behind;
    plan.absence = model_.time.absence;
    plan.fates.reserve(model_.sets.size());
    const std::vector<std::size_t> holder = model_.holders();
    for (std::size_t i = 0; i < model_.sets.size(); ++i) {
      SetFate fate;
      fate.sequence = model_.sets[i].facts.sequence;
      fate.bytes = model_.stored(i);
      fate.dated = {model_.time.made[i].seconds + model_.time.away[i], 0};
      fate.chain_end = model_.point(model_.members(model_.chain[i]).back());
      fate.reason = model_.reason[i];
      if (standing(i).is != Standing::Is::by_rules) plan.said[fate.sequence] = standing(i);
      fate.promise = model_.wanted_by[i];
      fate.overridden = model_.overridden[i];
      fate.misdated = model_.time.misdated[i];
      if (model_.gone[i]) fate.fate = Fate::goes;
      if (model_.into[i] != nobody) {
        fate.fate = Fate::folds;
        fate.into = model_.point(holder[i]);
      }
      if (model_.stays(i)) ++plan.points_left;
      plan.fates.push_back(fate);
    }
    plan.frees = model_.removed_bytes();
    plan.excess = model_.excess(false);
    add_steps(plan);
    add_broken(plan);
    return plan;
  }

  void add_steps(KeepPlan& plan) const {
    for (std::size_t c = 0; c < model_.chains(); ++c) {
      std::span<const std::size_t> chain = model_.members(c);
      for (std::size_t k = chain.size(); k-- > 0;) {
        Sequence sequence = model_.sets[chain[k]].facts.sequence;
        if (model_.gone[chain[k]]) plan.steps.push_back({false, sequence, sequence});
      }
    }
    for (std::size_t c = 0; c < model_.chains(); ++c) {
      std::span<const std::size_t> chain = model_.members(c);
      std::size_t first = nobody;
      for (std::size_t i : chain) {
        if (model_.into[i] != nobody && first == nobody) first = i;
        if (!model_.stays(i) || first == nobody) continue;
        plan.steps.push_back({true, model_.sets[first].facts.covers_from(), model_.sets[i].facts.sequence});
        first = nobody;
      }
    }
  }

  void add_broken(KeepPlan& plan) const {
    for (std::size_t i = 0; i < model_.sets.size(); ++i) {
      const Promise& promise = model_.wanted_by[i];
      if (!model_.overridden[i] || promise.by == Promise::By::no_rule) continue;
      kestrum::add_broken(plan.broken, {promise, 1});
    }
  }

  KeepModel model_;
  bool folding_;  // points within a chain are folded by promises alone
  LimitsMet reach_;
  std::vector<bool> wanted_, needed_;
};

}  // namespace

bool KeepPlan::folds() const {
  return std::any_of(steps.begin(), steps.end(), [](const KeepStep& step) { return step.fold; });
}

KeepRules acting_rules(const KeepRules& given) {
  KeepRules rules = given;
  if (given.any()) return rules;
  rules.age = Span{30, Span::Unit::day};
  rules.drive_limit = 90;
  return rules;
}

std::int64_t room_left(const KeepRules& rules, std::uint64_t job_bytes, std::uint64_t total,
                       std::uint64_t free, std::uint64_t reserve) {
  auto difference = [](std::uint64_t a, std::uint64_t b) {
    return static_cast<std::int64_t>(a) - static_cast<std::int64_t>(b);
  };
  std::int64_t room = difference(free, std::max(rules.leave_free.value_or(0), reserve));
  if (rules.job_limit) room = std::min(room, difference(*rules.job_limit, job_bytes));
  if (rules.drive_limit) room = std::min(room, difference(total / 100 * *rules.drive_limit + free, total));
  return room;
}

void add_broken(std::vector<BrokenPromise>& all, const BrokenPromise& one) {
  auto known = std::find_if(all.begin(), all.end(),
                            [&](const BrokenPromise& other) { return other.promise.same_rule(one.promise); });
  if (known == all.end()) {
    all.push_back(one);
  } else {
    known->points += one.points;
  }
}

KeepRules without_shares(KeepRules rules) {
  rules.drive_limit.reset();
  rules.leave_free.reset();
  return rules;
}

std::int64_t room_for_run(const KeepRules& rules, std::uint64_t job_bytes, std::uint64_t total,
                          std::uint64_t free, std::uint64_t freed, std::uint64_t reserve) {
  std::int64_t own = room_left(without_shares(rules), job_bytes, total, free, reserve);
  std::int64_t room = room_left(rules, job_bytes, total, free, reserve);
  std::int64_t allowed = std::max(room, static_cast<std::int64_t>(freed));
  // Where others have overrun the limit, little beside what is free fills no drive.
  if (room < 0) allowed = std::max(allowed, static_cast<std::int64_t>(free / 10));
  return std::min(own, allowed);
}

KeepPlan measured(KeepPlan plan, KeepQuestion& asked,
                  const std::function<std::uint64_t(const KeepPlan&)>& frees) {
  auto plan_with = [&](std::uint64_t yield) {
    asked.fold_yield = static_cast<unsigned>(yield);
    plan = plan_keep(asked);
  };
  while (plan.by_folding > 0 && frees(plan) < plan.by_folding) {
    unsigned before = asked.fold_yield;
    plan_with(before * 7 / 10);
    if (plan.by_folding > 0 || plan.most_hoped == 0) continue;
    // Out of reach by that yield: by which it would just do, all goes.
    std::uint64_t all = plan.wanted_of_folding * 1000 / plan.most_hoped + 1;
    bool tried = all >= before;
    if (!tried) plan_with(all);
    if (tried || (plan.by_folding > 0 && frees(plan) < plan.by_folding)) plan_with(0);
  }
  return plan;
}

std::uint64_t fold_reserve(const KeepRules& rules, bool endless, std::uint64_t job_bytes) {
  // The seals of a folded set and the frames of a small step, and its index.
  constexpr std::uint64_t least = 1u << 20;
  return endless || !rules.thin.empty() ? least + job_bytes / 256 : 0;
}

std::uint64_t fold_ahead(std::uint64_t job_bytes, std::int64_t left) {
  const auto aim = static_cast<std::int64_t>(job_bytes / 6);
  return left >= aim ? 0 : static_cast<std::uint64_t>(aim - left);
}

KeepQuestion only_given_up(KeepQuestion question) {
  question.rules = {};
  question.rules.points = std::numeric_limits<unsigned>::max();
  question.make_room = question.reserve = 0;
  // A person lets it go, whatever others think of other points.
  if (question.hold == Hold::suspect_point) question.hold = Hold::nothing;
  return question;
}

namespace {

// What becomes of the closed ones where all count; then of the others where none of the closed does: nothing
// that was not proved lets a point go.
KeepPlan plan_beside_closed(const KeepQuestion& question) {
  const KeepPlan all = KeepPlanner(question).plan();
  KeepQuestion open = question;
  std::vector<SetFate> closed;
  for (std::size_t i = 0; i < question.sets.size(); ++i) {
    if (!question.sets[i].closed) continue;
    closed.push_back(all.fates[i]);
    const bool goes = closed.back().fate != Fate::stays;
    (goes ? open.free : open.beside) += closed.back().bytes;
  }
  std::erase_if(open.sets, [](const KeptSet& set) { return set.closed; });
  KeepPlan plan = KeepPlanner(open).plan();
  std::vector<KeepStep> steps;
  for (const KeepStep& step : all.steps) {
    auto is_it = [&](const SetFate& fate) { return fate.sequence == step.first; };
    if (!step.fold && std::any_of(closed.begin(), closed.end(), is_it)) steps.push_back(step);
  }
  plan.steps.insert(plan.steps.begin(), steps.begin(), steps.end());
  for (const SetFate& fate : closed) {
    if (auto said = all.said.find(fate.sequence); said != all.said.end()) plan.said.insert(*said);
    plan.points_left += fate.fate == Fate::stays ? 1 : 0;
    plan.frees += fate.fate == Fate::goes ? fate.bytes : 0;
    if (fate.overridden && fate.promise.by != Promise::By::no_rule)
      add_broken(plan.broken, {fate.promise, 1});
    auto place = std::find_if(plan.fates.begin(), plan.fates.end(),
                              [&](const SetFate& other) { return other.sequence > fate.sequence; });
    plan.fates.insert(place, fate);
  }
  return plan;
}

}  // namespace

KeepPlan plan_keep(const KeepQuestion& question) {
  const bool any_closed =
      std::any_of(question.sets.begin(), question.sets.end(), [](const KeptSet& set) { return set.closed; });
  return any_closed ? plan_beside_closed(question) : KeepPlanner(question).plan();
}

}  // namespace kestrum
