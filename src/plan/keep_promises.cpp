#include "plan/keep_promises.hpp"

#include <algorithm>
#include <bit>
#include <chrono>
#include <cstring>
#include <map>

namespace kestrum {
namespace {

// Which hour, day, week (Monday first), month or year of local time where and when the point was made.
std::int64_t period(Instant when, std::int32_t offset_seconds, Span::Unit unit) {
  std::int64_t local = when.seconds + offset_seconds;
  auto whole = [&](std::int64_t seconds) { return (local - (local < 0 ? seconds - 1 : 0)) / seconds; };
  if (unit == Span::Unit::hour) return whole(3600);
  std::int64_t day = whole(86400);
  if (unit == Span::Unit::day) return day;
  if (unit == Span::Unit::week) return (day + 3) / 7;  // 1970-01-01 was a Thursday
  std::chrono::year_month_day date{std::chrono::sys_days(std::chrono::days(day))};
  std::int64_t year = static_cast<int>(date.year());
  return unit == Span::Unit::year ? year : year * 12 + static_cast<unsigned>(date.month());
}

// The last good one of each period, or where there is none the last; mostly asked for in the order of time.
class LastOfEach {
 public:
  struct One {
    std::int64_t period;
    std::size_t place;
    bool good;
  };
  void put(const One& one) {
    auto at = last_.end();
    if (!last_.empty() && last_.back().period >= one.period)
      at = std::lower_bound(last_.begin(), last_.end(), one.period,
                            [](const One& there, std::int64_t wanted) { return there.period < wanted; });
    if (at == last_.end() || at->period != one.period) {
      last_.insert(at, one);
    } else if (one.good || !at->good) {
      *at = one;
    }
  }
  const std::vector<One>& all() const { return last_; }

 private:
  std::vector<One> last_;  // sorted
};

class Wanted {
 public:
  Wanted(const KeepQuestion& question, const KeepRules& rules, const JobTime& time)
      : question_(question),
        rules_(rules),
        time_(time),
        sets_(question.sets),
        chains_(chain_numbers(question.sets)),
        out_(question.sets.size()) {}

  std::vector<Promise> decide() {
    bool any = rules_.age || rules_.chains || rules_.points || !rules_.thin.empty();
    for (std::size_t i = 0; !any && i < sets_.size(); ++i) want(i, {.by = Promise::By::no_rule});
    if (rules_.points) by_points(*rules_.points);
    if (rules_.chains) by_chains(*rules_.chains);
    if (rules_.age) by_age(*rules_.age);
    for (std::size_t i = 0; i < rules_.thin.size(); ++i) by_thinning(i);
    return std::move(out_);
  }

 private:
  bool given_up(std::size_t i) const { return sets_[i].facts.standing.given_up(); }
  void want(std::size_t i, const Promise& promise) {
    if (!out_[i].made() && !given_up(i)) out_[i] = promise;
  }

  // By a clock that is wrong nothing is old.
  bool hold_still(Promise promise) {
    promise.clock_behind = true;
    for (std::size_t i = 0; time_.now_is_behind && i < sets_.size(); ++i) want(i, promise);
    return time_.now_is_behind;
  }

  // Whether a set is not older than that in the job's own days. Answers for neighbours are mostly the same
  // question.
  bool within(std::size_t i, const Span& span) {
    if (!since_ || away_ != time_.away[i]) {
      away_ = time_.away[i];
      since_ = before({question_.now.seconds - away_, question_.now.nanoseconds}, span);
    }
    return !(time_.made[i] < *since_);
  }
  Promise not_counting(Promise promise, std::size_t i) const {
    promise.away_days = static_cast<unsigned>(time_.away[i] / 86400);
    return promise;
  }

  void by_points(unsigned most) {
    unsigned seen = 0;
    for (std::size_t i = sets_.size(); i-- > 0 && seen < most;) {
      if (sets_[i].counts()) ++seen;
      want(i, {.by = Promise::By::points});
    }
  }

  void by_chains(unsigned most) {
    std::map<std::size_t, bool> good;
    for (std::size_t i = 0; i < sets_.size(); ++i) good[chains_[i]] |= sets_[i].counts();
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
    since_.reset();
    std::map<std::size_t, Sequence> young;  // of a chain
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (given_up(i) || !within(i, age)) continue;
      young[chains_[i]] = sets_[i].facts.sequence;
      want(i, not_counting(promise, i));
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
    since_.reset();
    LastOfEach last;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (given_up(i) || (thin.during && !within(i, *thin.during))) continue;
      if (!thin.one_each) {
        want(i, not_counting(promise, i));
      } else {
        last.put(
            {period(time_.made[i], sets_[i].facts.offset_seconds, *thin.one_each), i, sets_[i].counts()});
      }
    }
    for (const LastOfEach::One& one : last.all()) want(one.place, not_counting(promise, one.place));
  }

  const KeepQuestion& question_;
  const KeepRules& rules_;
  const JobTime& time_;
  const std::vector<KeptSet>& sets_;
  std::vector<std::size_t> chains_;
  std::vector<Promise> out_;
  std::optional<Instant> since_;  // for sets with so many seconds away
  std::int64_t away_ = 0;
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

std::vector<Promise> promises(const KeepQuestion& question, const KeepRules& rules, const JobTime& time) {
  return Wanted(question, rules, time).decide();
}

}  // namespace kestrum
