#include "plan/keep_plan.hpp"

#include <algorithm>
#include <limits>

#include "base/text.hpp"
#include "plan/keep_promises.hpp"

namespace kestrum {
namespace {

constexpr std::size_t nobody = std::numeric_limits<std::size_t>::max();

class KeepPlanner {
 public:
  explicit KeepPlanner(const KeepQuestion& question)
      : question_(question),
        rules_(acting_rules(question.rules)),
        sets_(question.sets),
        chain_(chain_numbers(question.sets)),
        promises_(promises(question, rules_)),
        into_(sets_.size(), nobody),
        gone_(sets_.size(), false),
        reason_(sets_.size()),
        overridden_(sets_.size(), false),
        unwanted_(unwanted_text(rules_, question.endless)) {
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (chain_[i] >= members_.size()) members_.emplace_back();
      place_.push_back(members_[chain_[i]].size());
      members_[chain_[i]].push_back(i);
      needs_.emplace_back();
      for (const SetNeed& need : sets_[i].facts.needs) {
        std::size_t found = who_meets(need, i);
        if (found != nobody) needs_.back().push_back(found);
      }
      job_bytes_ += sets_[i].facts.totals.stored_bytes;
    }
    always_stay();
    room_ = "to make room: " + tightest_limit();
  }

  KeepPlan plan() {
    if (question_.hold.empty() && !sets_.empty()) {
      by_promises();
      while (excess(true) > 0 && relieve()) {
      }
    }
    return result();
  }

 private:
  bool stays(std::size_t i) const { return !gone_[i] && into_[i] == nobody; }
  bool counts(std::size_t i) const { return sets_[i].good && !sets_[i].suspect; }
  std::uint64_t stored(std::size_t i) const { return sets_[i].facts.totals.stored_bytes; }
  bool promised(std::size_t i) const { return !promises_[i].rule.empty(); }
  std::string point(std::size_t i) const { return "point " + std::to_string(sets_[i].facts.sequence); }

  std::size_t who_meets(const SetNeed& need, std::size_t below) const {
    auto found =
        std::lower_bound(sets_.begin(), sets_.begin() + static_cast<std::ptrdiff_t>(below), need.sequence,
                         [](const KeptSet& set, Sequence sequence) { return set.facts.sequence < sequence; });
    std::size_t i = static_cast<std::size_t>(found - sets_.begin());
    return i < below && sets_[i].facts.meets(need, sets_[below].facts.chain) ? i : nobody;
  }

  // Chains that may not go whole: what the next run builds on, the newest good point's, and the newest one in
  // which everything is good.
  void always_stay() {
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (counts(i)) newest_good_ = i;
    }
    for (std::size_t c = 0; c < members_.size(); ++c) {
      if (std::all_of(members_[c].begin(), members_[c].end(), [this](std::size_t i) { return counts(i); }))
        good_chain_ = c;
    }
  }
  bool whole_chain_stays(std::size_t c) const {
    return c + 1 == members_.size() || c == good_chain_ ||
           (newest_good_ != nobody && chain_[newest_good_] == c);
  }

  std::size_t good_left() const {
    std::size_t count = 0;
    for (std::size_t i = 0; i < sets_.size(); ++i) count += stays(i) && counts(i) ? 1 : 0;
    return count;
  }
  // Whether the floor lets so many good points go.
  bool floor_allows(std::size_t good_points) const {
    return good_points == 0 || good_left() >= good_points + rules_.at_least;
  }

  // The set that holds what `i` held.
  std::size_t holder(std::size_t i) const {
    while (into_[i] != nobody) i = into_[i];
    return i;
  }

  // For each set, the oldest staying one that needs it; nobody when none does.
  std::vector<std::size_t> needed_by() const {
    std::vector<std::size_t> user(sets_.size(), nobody);
    for (std::size_t j = sets_.size(); j-- > 0;) {
      if (gone_[j]) continue;
      for (std::size_t need : needs_[j]) {
        std::size_t held = holder(need), by = holder(j);
        if (held != by) user[held] = by;
      }
    }
    return user;
  }

  void by_promises() {
    bool folding = question_.may_fold && (question_.endless || !rules_.thin.empty());
    std::vector<bool> wanted(sets_.size());
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      wanted[i] = promised(i);
      if (wanted[i]) reason_[i] = promises_[i].reason;
    }
    auto add = [&](std::size_t i, const std::string& reason) {
      if (!wanted[i]) reason_[i] = reason;
      wanted[i] = true;
    };
    add(sets_.size() - 1, "it is the newest");
    std::vector<bool> needed = closure(wanted);
    if (good_chain_ != nobody) {
      const std::vector<std::size_t>& members = members_[good_chain_];
      if (std::none_of(members.begin(), members.end(), [&](std::size_t i) { return wanted[i]; }))
        add(members.back(), "the newest undamaged chain always stays");
      needed = closure(wanted);
    }
    // The floor counts what stays as a point of its own.
    auto standing = [&] {
      std::size_t count = 0;
      for (std::size_t i = 0; i < sets_.size(); ++i)
        count += counts(i) && (wanted[i] || (needed[i] && !folding)) ? 1 : 0;
      return count;
    };
    for (std::size_t i = sets_.size(); i-- > 0 && standing() < rules_.at_least;) {
      if (!counts(i) || wanted[i]) continue;
      add(i, "one of the last " + count_text(rules_.at_least, "good point"));
      needed = closure(wanted);
    }
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (wanted[i]) continue;
      if (!needed[i]) gone_[i] = true;
      reason_[i] = unwanted_;
    }
    std::vector<std::size_t> user(sets_.size(), nobody);  // the oldest wanted one
    for (std::size_t j = sets_.size(); j-- > 0;) {
      for (std::size_t need : needs_[j]) user[need] = wanted[j] ? j : user[need];
    }
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (wanted[i] || !needed[i]) continue;
      bool folds = folding && try_fold(i, [&](std::size_t j) { return wanted[j]; });
      if (!folds) reason_[i] = point(user[i]) + " needs it";
      if (!folds && folding && question_.may_fold) reason_[i] += "; what is damaged is not folded";
    }
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (into_[i] != nobody) reason_[i] = unwanted_ + "; " + point(into_[i]) + " needs what is in it";
    }
  }

  // What the wanted sets need, directly or through others.
  std::vector<bool> closure(const std::vector<bool>& wanted) const {
    std::vector<bool> needed(sets_.size(), false);
    for (std::size_t j = sets_.size(); j-- > 0;) {
      if (!wanted[j] && !needed[j]) continue;
      for (std::size_t need : needs_[j]) needed[need] = true;
    }
    return needed;
  }

  // Into the next set of its chain that stays and of which `target` is true; nothing damaged may lie between.
  template <typename Target>
  bool try_fold(std::size_t i, Target&& target) {
    if (!sets_[i].good) return false;
    const std::vector<std::size_t>& members = members_[chain_[i]];
    for (std::size_t k = place_[i] + 1; k < members.size(); ++k) {
      std::size_t j = members[k];
      if (gone_[j]) continue;
      if (!sets_[j].good) return false;
      if (!stays(j) || !target(j)) continue;
      into_[i] = j;
      return true;
    }
    return false;
  }

  // --- Limits

  std::string tightest_limit() const {
    KeepRules one;
    std::int64_t least = room_left(one, job_bytes_, question_.total, question_.free);
    std::string text = "the next set takes " + size_text(question_.make_room);
    auto look = [&](const KeepRules& rules, const std::string& words) {
      std::int64_t room = room_left(rules, job_bytes_, question_.total, question_.free);
      if (room < least) text = words;
      least = std::min(least, room);
    };
    one.job_limit = rules_.job_limit;
    if (rules_.job_limit) look(one, "job-limit = " + size_text(*rules_.job_limit));
    one = {};
    one.drive_limit = rules_.drive_limit;
    if (rules_.drive_limit) look(one, "drive-limit = " + std::to_string(*rules_.drive_limit) + "%");
    one = {};
    one.leave_free = rules_.leave_free;
    if (rules_.leave_free) look(one, "leave-free = " + size_text(*rules_.leave_free));
    return text;
  }

  std::uint64_t removed_bytes() const {
    std::uint64_t bytes = 0;
    for (std::size_t i = 0; i < sets_.size(); ++i) bytes += gone_[i] ? stored(i) : 0;
    return bytes;
  }
  // The most that folding can free: of two sets with the same content the smaller one.
  std::uint64_t hoped_from_folds() const {
    std::uint64_t bytes = 0;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (into_[i] != nobody) bytes += std::min(stored(i), stored(next_in_chain(i)));
    }
    return bytes;
  }
  std::size_t next_in_chain(std::size_t i) const {
    const std::vector<std::size_t>& members = members_[chain_[i]];
    for (std::size_t k = place_[i] + 1; k < members.size(); ++k) {
      if (!gone_[members[k]]) return members[k];
    }
    return i;
  }
  std::uint64_t excess(bool with_folds) const {
    std::uint64_t freed = removed_bytes() + (with_folds ? hoped_from_folds() : 0);
    freed = std::min(freed, job_bytes_);
    std::int64_t room = room_left(rules_, job_bytes_ - freed, question_.total, question_.free + freed) -
                        static_cast<std::int64_t>(question_.make_room);
    return room >= 0 ? 0 : static_cast<std::uint64_t>(-room);
  }

  void give_up(std::size_t i) {
    gone_[i] = true;
    into_[i] = nobody;
    overridden_[i] = promised(i);
    reason_[i] = room_;
  }
  bool fold_for_room(std::size_t i) {
    if (!question_.may_fold || !floor_allows(counts(i) ? 1 : 0)) return false;
    if (!try_fold(i, [](std::size_t) { return true; })) return false;
    overridden_[i] = promised(i);
    reason_[i] = room_ + "; " + point(into_[i]) + " needs what is in it";
    return true;
  }

  // One step towards the limits; false when nothing more can be done.
  bool relieve() {
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (stays(i) && !promised(i) && i != newest_good_ && i + 1 < sets_.size() && fold_for_room(i))
        return true;
    }
    for (std::size_t c = 0; c < members_.size(); ++c) {
      if (relieve_chain(c)) return true;
    }
    return false;
  }

  std::vector<std::size_t> staying(std::size_t c) const {
    std::vector<std::size_t> out;
    for (std::size_t i : members_[c]) {
      if (stays(i)) out.push_back(i);
    }
    return out;
  }

  bool relieve_chain(std::size_t c) {
    std::vector<std::size_t> alive = staying(c);
    if (alive.empty()) return false;
    std::size_t good = 0;
    std::uint64_t hoped = 0;
    for (std::size_t k = 0; k < alive.size(); ++k) {
      good += counts(alive[k]) ? 1 : 0;
      if (k + 1 < alive.size()) hoped += std::min(stored(alive[k]), stored(alive[k + 1]));
    }
    bool whole = !whole_chain_stays(c) && floor_allows(good);
    // Points of an old chain are given up one by one as long as that helps, else the whole of it.
    if (!whole || hoped >= excess(true)) {
      if (drop_oldest(alive)) return true;
    }
    if (whole) {
      for (std::size_t i : members_[c]) {
        if (!gone_[i]) give_up(i);
      }
      return true;
    }
    return !question_.may_fold && !whole_chain_stays(c) && drop_newest(alive);
  }

  // The oldest that nothing needs, else the oldest by folding; the last one of a chain stays.
  bool drop_oldest(const std::vector<std::size_t>& alive) {
    std::vector<std::size_t> user = needed_by();
    for (std::size_t k = 0; k + 1 < alive.size(); ++k) {
      std::size_t i = alive[k];
      if (user[i] != nobody || i == newest_good_ || holds_folded(i) || !floor_allows(counts(i) ? 1 : 0))
        continue;
      give_up(i);
      return true;
    }
    for (std::size_t k = 0; k + 1 < alive.size(); ++k) {
      if (alive[k] != newest_good_ && fold_for_room(alive[k])) return true;
    }
    return false;
  }
  bool holds_folded(std::size_t i) const { return std::find(into_.begin(), into_.end(), i) != into_.end(); }

  // Where there is no room to fold: the last point of an old chain.
  bool drop_newest(const std::vector<std::size_t>& alive) {
    std::size_t i = alive.back();
    if (alive.size() < 2 || i == newest_good_ || !floor_allows(counts(i) ? 1 : 0)) return false;
    if (needed_by()[i] != nobody) return false;
    give_up(i);
    return true;
  }

  // --- The plan as a value

  KeepPlan result() const {
    KeepPlan plan;
    plan.held = question_.hold;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      SetFate fate;
      fate.sequence = sets_[i].facts.sequence;
      fate.bytes = stored(i);
      fate.reason = plan.held.empty() ? reason_[i] : plan.held;
      if (gone_[i]) fate.fate = Fate::goes;
      if (into_[i] != nobody) {
        fate.fate = Fate::folds;
        fate.into = sets_[holder(i)].facts.sequence;
      }
      if (overridden_[i]) fate.broken_promise = promises_[i].reason;
      if (stays(i)) ++plan.points_left;
      plan.fates.push_back(std::move(fate));
    }
    plan.frees = removed_bytes();
    plan.excess = excess(false);
    add_steps(plan);
    add_broken(plan);
    return plan;
  }

  void add_steps(KeepPlan& plan) const {
    for (const std::vector<std::size_t>& members : members_) {
      for (std::size_t k = members.size(); k-- > 0;) {
        Sequence sequence = sets_[members[k]].facts.sequence;
        if (gone_[members[k]]) plan.steps.push_back({false, sequence, sequence});
      }
    }
    for (const std::vector<std::size_t>& members : members_) {
      std::size_t first = nobody;
      for (std::size_t i : members) {
        if (into_[i] != nobody && first == nobody) first = i;
        if (!stays(i) || first == nobody) continue;
        plan.steps.push_back({true, sets_[first].facts.covers_from(), sets_[i].facts.sequence});
        first = nobody;
      }
    }
  }

  void add_broken(KeepPlan& plan) const {
    std::vector<std::pair<std::string, std::size_t>> broken;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (!overridden_[i]) continue;
      const std::string& rule = promises_[i].rule;
      auto found =
          std::find_if(broken.begin(), broken.end(), [&](const auto& one) { return one.first == rule; });
      if (found == broken.end()) found = broken.insert(broken.end(), {rule, 0});
      ++found->second;
    }
    for (const auto& [rule, count] : broken) {
      if (rule == "no rule") continue;
      plan.broken.push_back("[keep] " + rule + " is not kept: " + count_text(count, "point") +
                            " that it wants " + (count == 1 ? "goes" : "go") + " to make room");
    }
  }

  const KeepQuestion& question_;
  KeepRules rules_;
  const std::vector<KeptSet>& sets_;
  std::vector<std::size_t> chain_;
  std::vector<Promise> promises_;
  std::vector<std::size_t> into_;  // folded into
  std::vector<bool> gone_;
  std::vector<std::string> reason_;
  std::vector<bool> overridden_;
  std::vector<std::vector<std::size_t>> members_;  // of each chain
  std::vector<std::size_t> place_;                 // in its chain
  std::vector<std::vector<std::size_t>> needs_;
  std::string unwanted_, room_;  // reasons
  std::uint64_t job_bytes_ = 0;
  std::size_t newest_good_ = nobody;
  std::size_t good_chain_ = nobody;
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
                       std::uint64_t free) {
  auto difference = [](std::uint64_t a, std::uint64_t b) {
    return static_cast<std::int64_t>(a) - static_cast<std::int64_t>(b);
  };
  std::int64_t room = difference(free, rules.leave_free.value_or(0));
  if (rules.job_limit) room = std::min(room, difference(*rules.job_limit, job_bytes));
  if (rules.drive_limit) room = std::min(room, difference(total / 100 * *rules.drive_limit + free, total));
  return room;
}

KeepPlan plan_keep(const KeepQuestion& question) {
  return KeepPlanner(question).plan();
}

}  // namespace kestrum
