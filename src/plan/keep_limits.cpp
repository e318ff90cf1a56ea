#include <algorithm>

#include "plan/keep_model.hpp"

namespace kestrum {
namespace {

// What is tried to keep the limits.
struct Effort {
  bool breaks_rules = false;  // gives up what a rule wants
  bool own = false;           // see KeepModel::excess
};

class LimitPlanner {
 public:
  LimitPlanner(KeepModel& model, Effort effort) : model_(model), effort_(effort), before_(model.decided()) {}

  // False when it does not get there.
  bool meet() {
    while (excess() > 0 && relieve()) {
    }
    return excess() == 0;
  }

 private:
  std::uint64_t excess() const { return model_.excess(true, effort_.own); }
  bool may_fold() const { return model_.question.may_fold && model_.question.fold_yield > 0; }
  bool may_go(std::size_t i) const {
    return !model_.kept(i) && (effort_.breaks_rules || !model_.by_a_rule(i));
  }
  void give_up(std::size_t i) {
    model_.gone[i] = true;
    model_.into[i] = nobody;
    model_.overridden[i] = model_.promised(i);
    model_.reason[i] = {.why = FateReason::Why::room};
    let_go_unneeded(i);
  }
  // What stayed only because `i` needed it goes with it, before anything else does.
  void let_go_unneeded(std::size_t i) {
    using Why = FateReason::Why;
    std::vector<std::size_t> user;
    for (std::size_t need : model_.needs(i)) {
      const Why why = model_.reason[need].why;
      if (!model_.stays(need) || (why != Why::needed && why != Why::given_up)) continue;
      if (user.empty()) user = model_.needed_by();
      if (user[need] != nobody || !model_.floor_allows(model_.counts(need) ? 1 : 0)) continue;
      model_.gone[need] = true;
      model_.reason[need] = {.why = why == Why::needed ? Why::unwanted : Why::given_up};
      let_go_unneeded(need);
    }
  }
  bool fold_for_room(std::size_t i) {
    if (!may_fold() || !may_go(i) || !model_.floor_allows(model_.counts(i) ? 1 : 0)) return false;
    if (!model_.try_fold(i)) return false;
    model_.overridden[i] = model_.promised(i);
    model_.reason[i] = {.why = FateReason::Why::room, .other = model_.point(model_.into[i])};
    return true;
  }

  // One step towards the limits; false when nothing more can be done.
  bool relieve() {
    for (std::size_t i = 0; i < model_.sets.size(); ++i) {
      if (model_.stays(i) && !model_.promised(i) && i != model_.newest_good && i + 1 < model_.sets.size() &&
          fold_for_room(i))
        return true;
    }
    for (std::size_t c = 0; c < model_.chains(); ++c) {
      if (relieve_chain(c)) return true;
    }
    return false;
  }

  std::vector<std::size_t> staying(std::size_t c) const {
    std::vector<std::size_t> out;
    for (std::size_t i : model_.members(c)) {
      if (model_.stays(i)) out.push_back(i);
    }
    return out;
  }

  bool relieve_chain(std::size_t c) {
    std::vector<std::size_t> alive = staying(c);
    if (alive.empty()) return false;
    std::size_t good = 0;
    std::uint64_t hoped = 0;
    for (std::size_t k = 0; k < alive.size(); ++k) {
      good += model_.counts(alive[k]) ? 1 : 0;
      if (k + 1 < alive.size()) hoped += std::min(model_.stored(alive[k]), model_.stored(alive[k + 1]));
    }
    const bool may_end = !model_.whole_chain_stays(c);
    bool whole = may_end && model_.floor_allows(good) &&
                 std::all_of(alive.begin(), alive.end(), [this](std::size_t i) { return may_go(i); });
    // Points of an old chain are given up one by one as long as that helps: the oldest, by folding, or else
    // the newest. Else the whole of it goes.
    if (!whole || model_.yielded(hoped) >= excess()) {
      if (drop_oldest(alive)) return true;
    }
    // A chain that stays for one good point may lose what is newer; the newest and the newest undamaged may
    // not.
    const bool may_shrink = c + 1 != model_.chains() && c != model_.good_chain;
    if (may_shrink && keep_beginning(c)) return true;
    if (whole) {
      for (std::size_t i : model_.members(c)) {
        if (!model_.gone[i]) give_up(i);
      }
      return true;
    }
    return may_shrink && drop_newest(alive);
  }

  // Without folding in that chain, the newest first: where that does not do, all is as it was, and false.
  bool keep_beginning(std::size_t c) {
    const KeepModel::Decided so_far = model_.decided();
    for (std::size_t i : model_.members(c)) {
      if (model_.gone[i] || model_.into[i] == before_.into[i]) continue;
      model_.into[i] = before_.into[i];
      model_.reason[i] = before_.reason[i];
      model_.overridden[i] = before_.overridden[i];
    }
    while (excess() > 0 && drop_newest(staying(c))) {
    }
    if (excess() == 0) return true;
    model_.decide(so_far);
    return false;
  }

  // The oldest that nothing needs, else the oldest by folding; the last one of a chain stays.
  bool drop_oldest(const std::vector<std::size_t>& alive) {
    std::vector<std::size_t> user = model_.needed_by();
    for (std::size_t k = 0; k + 1 < alive.size(); ++k) {
      std::size_t i = alive[k];
      if (user[i] != nobody || i == model_.newest_good || holds_folded(i) || !may_go(i) ||
          !model_.floor_allows(model_.counts(i) ? 1 : 0))
        continue;
      give_up(i);
      return true;
    }
    for (std::size_t k = 0; k + 1 < alive.size(); ++k) {
      if (alive[k] != model_.newest_good && fold_for_room(alive[k])) return true;
    }
    return false;
  }
  bool holds_folded(std::size_t i) const {
    return std::find(model_.into.begin(), model_.into.end(), i) != model_.into.end();
  }

  // The last point of an old chain, where there is no room to fold or folding does not do.
  bool drop_newest(const std::vector<std::size_t>& alive) {
    if (alive.size() < 2) return false;
    std::size_t i = alive.back();
    if (i == model_.newest_good || !may_go(i) || !model_.floor_allows(model_.counts(i) ? 1 : 0)) return false;
    if (model_.needed_by()[i] != nobody) return false;
    const std::vector<std::size_t> holder = model_.holders();
    give_up(i);
    // What was to be folded into it goes as it is.
    for (std::size_t k : model_.members(model_.chain[i])) {
      if (holder[k] != i || model_.gone[k]) continue;
      model_.gone[k] = true;
      model_.into[k] = nobody;
      model_.reason[k].other = 0;
    }
    return true;
  }

  KeepModel& model_;
  const Effort effort_;
  const KeepModel::Decided before_;
};

}  // namespace

Limit tightest_limit(const KeepModel& model) {
  auto room = [&](const KeepRules& one) {
    return room_left(one, model.job_bytes, model.question.total, model.question.free);
  };
  Limit tightest = Limit::next_set;
  std::int64_t least = room({});
  auto look = [&](Limit limit, bool there, const KeepRules& one) {
    if (!there || room(one) >= least) return;
    tightest = limit;
    least = room(one);
  };
  const KeepRules& rules = model.rules;
  look(Limit::job_limit, rules.job_limit.has_value(), {.job_limit = rules.job_limit});
  look(Limit::drive_limit, rules.drive_limit.has_value(), {.drive_limit = rules.drive_limit});
  look(Limit::leave_free, rules.leave_free.has_value(), {.leave_free = rules.leave_free});
  return tightest;
}

LimitsMet meet_limits(KeepModel& model) {
  LimitsMet reach;
  // First what costs no promise; then promises too, but not for what others have put on the drive, unless
  // somebody asks for it; then only so much that this job takes no more than it frees.
  std::vector<Effort> efforts{{.breaks_rules = false, .own = false}};
  const bool spare = model.question.spare_promises;
  const KeepQuestion& asked = model.question;
  const bool others_fill_it =
      asked.other_jobs || asked.total - std::min(asked.total, asked.free) > 2 * model.job_bytes;
  if (!spare && (asked.by_hand || !others_fill_it)) efforts.push_back({.breaks_rules = true, .own = false});
  if (!spare) efforts.push_back({.breaks_rules = true, .own = true});
  const KeepModel::Decided before = model.decided();
  for (const Effort& effort : efforts) {
    if (model.question.room_is_late) break;
    if (LimitPlanner(model, effort).meet()) {
      reach.kept = model.excess(true) == 0;
      reach.by_folding = model.excess(false, effort.own);
      return reach;
    }
    reach.most_hoped = model.hoped_from_folds();
    reach.wanted = model.excess(false, effort.own);
    model.decide(before);
  }
  reach.kept = model.excess(true) == 0;
  return reach;
}

}  // namespace kestrum
