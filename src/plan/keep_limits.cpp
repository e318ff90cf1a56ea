#include <algorithm>

#include "plan/keep_model.hpp"

namespace kestrum {
namespace {

class LimitPlanner {
 public:
  explicit LimitPlanner(KeepModel& model) : model_(model) {}

  void meet() {
    while (model_.excess(true) > 0 && relieve()) {
    }
  }

 private:
  void give_up(std::size_t i) {
    model_.gone[i] = true;
    model_.into[i] = nobody;
    model_.overridden[i] = model_.promised(i);
    model_.reason[i] = {.why = FateReason::Why::room};
  }
  bool fold_for_room(std::size_t i) {
    if (!model_.question.may_fold || !model_.floor_allows(model_.counts(i) ? 1 : 0)) return false;
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
    bool whole = !model_.whole_chain_stays(c) && model_.floor_allows(good);
    // Points of an old chain are given up one by one as long as that helps, else the whole of it.
    if (!whole || hoped >= model_.excess(true)) {
      if (drop_oldest(alive)) return true;
    }
    if (whole) {
      for (std::size_t i : model_.members(c)) {
        if (!model_.gone[i]) give_up(i);
      }
      return true;
    }
    return !model_.question.may_fold && !model_.whole_chain_stays(c) && drop_newest(alive);
  }

  // The oldest that nothing needs, else the oldest by folding; the last one of a chain stays.
  bool drop_oldest(const std::vector<std::size_t>& alive) {
    std::vector<std::size_t> user = model_.needed_by();
    for (std::size_t k = 0; k + 1 < alive.size(); ++k) {
      std::size_t i = alive[k];
      if (user[i] != nobody || i == model_.newest_good || holds_folded(i) ||
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

  // Where there is no room to fold: the last point of an old chain.
  bool drop_newest(const std::vector<std::size_t>& alive) {
    std::size_t i = alive.back();
    if (alive.size() < 2 || i == model_.newest_good || !model_.floor_allows(model_.counts(i) ? 1 : 0))
      return false;
    if (model_.needed_by()[i] != nobody) return false;
    give_up(i);
    return true;
  }

  KeepModel& model_;
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

void meet_limits(KeepModel& model) {
  LimitPlanner(model).meet();
}

}  // namespace kestrum
