#include "plan/keep_promises.hpp"

#include <algorithm>
#include <bit>
#include <chrono>
#include <cstring>
#include <map>

#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

bool counts(const KeptSet& set) {
  return set.good && !set.suspect;
}

// Which hour, day, week (Monday first), month or year of local time.
std::int64_t period(Instant when, Span::Unit unit) {
  std::int64_t local = when.seconds + local_offset_seconds(when);
  auto whole = [&](std::int64_t seconds) { return (local - (local < 0 ? seconds - 1 : 0)) / seconds; };
  if (unit == Span::Unit::hour) return whole(3600);
  std::int64_t day = whole(86400);
  if (unit == Span::Unit::day) return day;
  if (unit == Span::Unit::week) return (day + 3) / 7;  // 1970-01-01 was a Thursday
  std::chrono::year_month_day date{std::chrono::sys_days(std::chrono::days(day))};
  std::int64_t year = static_cast<int>(date.year());
  return unit == Span::Unit::year ? year : year * 12 + static_cast<unsigned>(date.month());
}

// The last of each period; mostly asked for in the order of time.
class LastOfEach {
 public:
  void put(std::int64_t period, std::size_t place) {
    if (last_.empty() || last_.back().first < period) {
      last_.emplace_back(period, place);
      return;
    }
    auto at = std::lower_bound(last_.begin(), last_.end(), period,
                               [](const auto& one, std::int64_t wanted) { return one.first < wanted; });
    if (at->first == period) {
      at->second = place;
    } else {
      last_.emplace(at, period, place);
    }
  }
  const std::vector<std::pair<std::int64_t, std::size_t>>& all() const { return last_; }

 private:
  std::vector<std::pair<std::int64_t, std::size_t>> last_;  // sorted
};

class Wanted {
 public:
  Wanted(const KeepQuestion& question, const KeepRules& rules)
      : question_(question),
        rules_(rules),
        sets_(question.sets),
        chains_(chain_numbers(question.sets)),
        out_(question.sets.size()) {}

  std::vector<Promise> decide() {
    bool any = rules_.age || rules_.chains || rules_.points || !rules_.thin.empty();
    if (!any) out_.assign(sets_.size(), {.by = Promise::By::no_rule});
    clock_behind_ = std::any_of(sets_.begin(), sets_.end(),
                                [this](const KeptSet& set) { return set.facts.started > question_.now; });
    if (rules_.points) by_points(*rules_.points);
    if (rules_.chains) by_chains(*rules_.chains);
    if (rules_.age) by_age(*rules_.age);
    for (std::size_t i = 0; i < rules_.thin.size(); ++i) by_thinning(i);
    return std::move(out_);
  }

 private:
  void want(std::size_t i, const Promise& promise) {
    if (!out_[i].made()) out_[i] = promise;
  }

  // A clock that went back would make every point look young, and later all of them old.
  bool hold_still(Promise promise) {
    promise.clock_behind = true;
    for (std::size_t i = 0; clock_behind_ && i < sets_.size(); ++i) want(i, promise);
    return clock_behind_;
  }

  void by_points(unsigned most) {
    unsigned seen = 0;
    for (std::size_t i = sets_.size(); i-- > 0 && seen < most;) {
      if (counts(sets_[i])) ++seen;
      want(i, {.by = Promise::By::points});
    }
  }

  void by_chains(unsigned most) {
    std::map<std::size_t, bool> good;
    for (std::size_t i = 0; i < sets_.size(); ++i) good[chains_[i]] |= counts(sets_[i]);
    unsigned seen = 0;
    for (auto chain = good.rbegin(); chain != good.rend() && seen < most; ++chain) {
      if (chain->second) ++seen;
      for (std::size_t i = 0; i < sets_.size(); ++i) {
        if (chains_[i] == chain->first) want(i, {.by = Promise::By::chains});
      }
    }
  }

  void by_age(const Span& age) {
    Promise promise{.by = Promise::By::age};
    if (hold_still(promise)) return;
    Instant since = before(question_.now, age);
    std::map<std::size_t, Sequence> young;  // of a chain
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (sets_[i].facts.started < since) continue;
      young[chains_[i]] = sets_[i].facts.sequence;
      want(i, promise);
    }
    for (std::size_t i = 0; !question_.endless && i < sets_.size(); ++i) {
      auto found = young.find(chains_[i]);
      if (found == young.end()) continue;
      promise.young = found->second;
      want(i, promise);
    }
  }

  void by_thinning(std::size_t rule) {
    const ThinRule& thin = rules_.thin[rule];
    Promise promise{.by = Promise::By::thin,
                    .last_of_them = thin.one_each.has_value(),
                    .thin = static_cast<std::uint16_t>(rule)};
    if (hold_still(promise)) return;
    std::optional<Instant> since;
    if (thin.during) since = before(question_.now, *thin.during);
    LastOfEach last;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (since && sets_[i].facts.started < *since) continue;
      if (!thin.one_each) {
        want(i, promise);
      } else if (counts(sets_[i])) {
        last.put(period(sets_[i].facts.started, *thin.one_each), i);
      }
    }
    for (const auto& [_, i] : last.all()) want(i, promise);
  }

  const KeepQuestion& question_;
  const KeepRules& rules_;
  const std::vector<KeptSet>& sets_;
  std::vector<std::size_t> chains_;
  std::vector<Promise> out_;
  bool clock_behind_ = false;
};

}  // namespace

std::vector<std::size_t> chain_numbers(const std::vector<KeptSet>& sets) {
  // Sets of one chain mostly follow each other. Else by a small table of first sets, by the first bytes of
  // their chains: a forecast asks hundreds of thousands of times.
  std::vector<std::uint32_t> table(std::bit_ceil(2 * sets.size() + 1), 0);  // place + 1
  std::vector<std::size_t> out;
  out.reserve(sets.size());
  std::size_t count = 0;
  for (std::size_t i = 0; i < sets.size(); ++i) {
    const Id& chain = sets[i].facts.chain;
    if (i > 0 && same_id(chain, sets[i - 1].facts.chain)) {
      out.push_back(out.back());
      continue;
    }
    std::uint64_t part = 0;
    std::memcpy(&part, chain.data(), sizeof part);
    // Multiplied, so that names that lie close together do not end up side by side.
    std::size_t at = (part * 0x9e3779b97f4a7c15u >> 32) % table.size();
    while (table[at] != 0 && !same_id(chain, sets[table[at] - 1].facts.chain)) at = (at + 1) % table.size();
    if (table[at] != 0) {
      out.push_back(out[table[at] - 1]);
    } else {
      table[at] = static_cast<std::uint32_t>(i + 1);
      out.push_back(count++);
    }
  }
  return out;
}

std::vector<Promise> promises(const KeepQuestion& question, const KeepRules& rules) {
  return Wanted(question, rules).decide();
}

}  // namespace kestrum
