#include "support/keep_oracle.hpp"

#include <algorithm>

#include "calendar/local_time.hpp"

namespace kestrum::test {

const KeptSet* met_by(const std::vector<KeptSet>& sets, const SetNeed& need, const Id& chain) {
  for (const KeptSet& set : sets) {
    if (set.facts.meets(need, chain)) return &set;
  }
  return nullptr;
}

std::size_t good_points(const std::vector<KeptSet>& sets) {
  return static_cast<std::size_t>(
      std::count_if(sets.begin(), sets.end(), [](const KeptSet& set) { return set.counts(); }));
}

std::optional<Id> good_chain(const std::vector<KeptSet>& sets) {
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

KeepOracle::KeepOracle(const KeepQuestion& asked, const KeepPlan& plan)
    : asked_(asked),
      plan_(plan),
      sets_(asked.sets),
      rules_(acting_rules(asked.rules)),
      time_(job_time(asked.sets, asked.now)) {
  for (std::size_t i = 0; i < sets_.size(); ++i) promised_.push_back(wanted(i));
}

std::string KeepOracle::failure() {
  for (std::string failure : {promises(), room()}) {
    if (!failure.empty()) return failure;
  }
  if (!any_broken_) return {};
  for (std::string failure : {needless(), order()}) {
    if (!failure.empty()) return failure;
  }
  return {};
}

std::string KeepOracle::name(std::size_t i) const {
  return "point " + std::to_string(sets_[i].facts.sequence);
}

// In the job's own days.
bool KeepOracle::young(std::size_t i, const Span& span) const {
  return time_.made[i] >= before({asked_.now.seconds - time_.away[i], 0}, span);
}

// The first day of the month, or the Monday of the week, where the point was made.
const std::string& KeepOracle::period(std::size_t i, Span::Unit unit) const {
  std::string& known = periods_[{i, unit}];
  if (!known.empty()) return known;
  const std::int64_t there = time_.made[i].seconds + sets_[i].facts.offset_seconds;
  const std::string date = utc_text({there, 0}).substr(0, 10);
  if (unit == Span::Unit::month) return known = date.substr(0, 7);
  std::int64_t day = there / 86400;
  while ((day + 4) % 7 != 1) --day;  // 1970-01-01 was a Thursday, the fourth day after Sunday
  return known = utc_text({day * 86400, 0}).substr(0, 10);
}

// Does any promise want it?
bool KeepOracle::wanted(std::size_t i) const {
  const KeptSet& set = sets_[i];
  if (set.facts.standing.given_up()) return false;
  if (!rules_.age && !rules_.chains && !rules_.points && rules_.thin.empty()) return true;
  if (time_.now_is_behind && (rules_.age || !rules_.thin.empty())) return true;
  auto of_chain = [&](const KeptSet& other) { return other.facts.chain == set.facts.chain; };
  if (rules_.age) {
    if (young(i, *rules_.age)) return true;
    for (std::size_t j = 0; j < sets_.size(); ++j) {
      if (!asked_.endless && of_chain(sets_[j]) && !sets_[j].facts.standing.given_up() &&
          young(j, *rules_.age))
        return true;
    }
  }
  if (rules_.points) {
    std::size_t newer = 0;
    for (std::size_t j = i + 1; j < sets_.size(); ++j) newer += sets_[j].counts() ? 1 : 0;
    if (newer < *rules_.points) return true;
  }
  if (rules_.chains) {
    std::map<Id, bool> newer;
    bool passed = false;
    for (const KeptSet& other : sets_) {
      if (of_chain(other)) passed = true;
      if (passed && !of_chain(other)) newer[other.facts.chain] |= other.counts();
    }
    auto good = std::count_if(newer.begin(), newer.end(), [](const auto& one) { return one.second; });
    if (static_cast<unsigned>(good) < *rules_.chains) return true;
  }
  return std::any_of(rules_.thin.begin(), rules_.thin.end(),
                     [&](const ThinRule& rule) { return wanted_by_thinning(rule, i); });
}

bool KeepOracle::wanted_by_thinning(const ThinRule& rule, std::size_t i) const {
  if (rule.during && !young(i, *rule.during)) return false;
  if (!rule.one_each) return true;
  // The last of those that are as good as one gets.
  for (std::size_t j = 0; j < sets_.size(); ++j) {
    if (j == i || sets_[j].facts.standing.given_up() ||
        period(i, *rule.one_each) != period(j, *rule.one_each))
      continue;
    if (rule.during && !young(j, *rule.during)) continue;
    if (sets_[j].good == sets_[i].good ? j > i : sets_[j].good) return false;
  }
  return true;
}

// By one that stays.
bool KeepOracle::is_needed(std::size_t i) const {
  for (std::size_t j = i + 1; j < sets_.size(); ++j) {
    if (plan_.fates[j].fate == Fate::goes) continue;
    for (const SetNeed& need : sets_[j].facts.needs) {
      if (sets_[i].facts.meets(need, sets_[j].facts.chain)) return true;
    }
  }
  return false;
}

std::string KeepOracle::promises() {
  for (std::size_t i = 0; i < sets_.size(); ++i) {
    bool dropped = plan_.fates[i].fate != Fate::stays;
    if (dropped && promised_[i] != plan_.fates[i].overridden)
      return name(i) + " goes and its promise is misjudged";
    any_broken_ = any_broken_ || (dropped && promised_[i]);
    if (!dropped && sets_[i].facts.standing.given_up() && !is_needed(i))
      return name(i) + " was given up and stays";
  }
  return {};
}

std::vector<bool> KeepOracle::with_needs(std::vector<bool> wanted) const {
  for (std::size_t j = sets_.size(); j-- > 0;) {
    for (const SetNeed& need : sets_[j].facts.needs) {
      const KeptSet* met = wanted[j] ? met_by(sets_, need, sets_[j].facts.chain) : nullptr;
      if (met != nullptr) wanted[static_cast<std::size_t>(met - sets_.data())] = true;
    }
  }
  return wanted;
}

std::int64_t KeepOracle::room_with(const std::vector<bool>& gone, bool own) const {
  std::uint64_t held = 0, freed = 0;
  for (std::size_t i = 0; i < sets_.size(); ++i)
    (gone[i] ? freed : held) += sets_[i].facts.totals.stored_bytes;
  const std::uint64_t free = asked_.free + freed;
  const std::uint64_t reserve = std::min(asked_.reserve, fold_reserve(rules_, asked_.endless, held));
  std::int64_t room = own ? room_for_run(rules_, held, asked_.total, free, freed, reserve)
                          : room_left(rules_, held, asked_.total, free, reserve);
  return room - static_cast<std::int64_t>(asked_.make_room);
}

// Could the promises be kept? Not if the limits are overrun with everything gone that nothing promised needs.
std::string KeepOracle::needless() const {
  std::vector<bool> stays = promised_;
  for (std::size_t i = 0; i < sets_.size(); ++i) stays[i] = stays[i] || sets_[i].facts.standing.kept();
  stays = with_needs(stays);
  std::vector<bool> gone;
  for (std::size_t i = 0; i < sets_.size(); ++i)
    gone.push_back(!stays[i] && plan_.fates[i].fate == Fate::goes);
  if (room_with(gone, false) >= 0) return "a promise is broken though the limits hold without that";
  const bool any_rule = rules_.age || rules_.chains || rules_.points || !rules_.thin.empty();
  if (any_rule && asked_.other_jobs && !asked_.by_hand && room_with(gone, true) >= 0)
    return "a promise is broken for what others have put on the drive";
  return {};
}

// What is promised, good for nothing else and older than a dropped chain does not stay.
std::string KeepOracle::order() const {
  auto stays = [&](std::size_t k) { return plan_.fates[k].fate == Fate::stays; };
  const std::optional<Id> protected_chain = good_chain(sets_);
  std::size_t left = 0;  // good ones
  for (std::size_t k = 0; k < sets_.size(); ++k) left += stays(k) && sets_[k].counts() ? 1 : 0;
  for (std::size_t i = 0; i < sets_.size(); ++i) {
    if (stays(i) || !promised_[i]) continue;
    for (std::size_t j = 0; j < i; ++j) {
      const Id& chain = sets_[j].facts.chain;
      if (chain == sets_[i].facts.chain || !stays(j) || chain == protected_chain) continue;
      // Then it is one of the last good points, or its chain is protected or cannot be folded.
      std::size_t of_chain = 0;
      bool other_reason = !sets_[j].good || left <= rules_.at_least + 1;
      for (std::size_t k = 0; k < sets_.size(); ++k) {
        if (sets_[k].facts.chain != chain) continue;
        of_chain += stays(k) ? 1 : 0;
        other_reason = other_reason || !sets_[k].good || sets_[k].facts.standing.is != Standing::Is::by_rules;
      }
      if (of_chain > 1 && !other_reason) return name(j) + " stays though a newer promised one goes";
    }
  }
  return {};
}

bool KeepOracle::for_room(std::size_t i) const {
  return plan_.fates[i].fate == Fate::goes && plan_.fates[i].reason.why == FateReason::Why::room;
}

std::string KeepOracle::room() const {
  // How much a fold frees is known only once it is looked at.
  if (plan_.folds()) return {};
  std::vector<bool> gone;
  std::optional<std::size_t> newest;
  for (std::size_t i = 0; i < sets_.size(); ++i) {
    gone.push_back(plan_.fates[i].fate == Fate::goes);
    if (for_room(i)) newest = i;
  }
  if (!newest) return {};
  if (asked_.room_is_late) return name(*newest) + " goes to make room though none comes";
  if (room_with(gone, true) < 0) return name(*newest) + " goes for a limit that is not reached";
  const bool own = room_with(gone, false) < 0;  // by the stricter measure it does not get there
  auto kept_with = [&](std::size_t i) {
    std::vector<bool> stays(sets_.size(), false), less = gone;
    stays[i] = true;
    stays = with_needs(stays);
    for (std::size_t k = 0; k < sets_.size(); ++k) less[k] = less[k] && !stays[k];
    return less;
  };
  if (room_with(kept_with(*newest), own) >= 0) return name(*newest) + " goes though there is room with it";
  // Of a chain in which each needs the one before, the beginning is kept as far as that goes: they went from
  // the newest on.
  std::size_t oldest = 0;
  while (!for_room(oldest) || sets_[oldest].facts.chain != sets_[*newest].facts.chain) ++oldest;
  if (promised_[oldest] && !kept_with(*newest)[oldest] && room_with(kept_with(oldest), own) >= 0)
    return name(oldest) + " goes with its chain though there is room with it";
  return {};
}

}  // namespace kestrum::test
