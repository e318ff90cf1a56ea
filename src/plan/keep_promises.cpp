#include "plan/keep_promises.hpp"

#include <algorithm>
#include <map>

#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

bool counts(const KeptSet& set) {
  return set.good && !set.suspect;
}

// Which hour, day, week (Monday first), month or year of local time.
std::int64_t period(Instant when, Span::Unit unit) {
  if (unit == Span::Unit::month || unit == Span::Unit::year) {
    LocalMinute date = to_local(when);
    return unit == Span::Unit::month ? std::int64_t{date.year} * 12 + date.month : std::int64_t{date.year};
  }
  std::int64_t local = when.seconds + local_offset_seconds(when);
  auto whole = [&](std::int64_t seconds) { return (local - (local < 0 ? seconds - 1 : 0)) / seconds; };
  if (unit == Span::Unit::hour) return whole(3600);
  if (unit == Span::Unit::day) return whole(86400);
  return (whole(86400) + 3) / 7;  // 1970-01-01 was a Thursday
}

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
    for (std::size_t i = 0; !any && i < sets_.size(); ++i) out_[i] = {"no rule", "no rule asks for it to go"};
    clock_behind_ = std::any_of(sets_.begin(), sets_.end(),
                                [this](const KeptSet& set) { return set.facts.started > question_.now; });
    if (rules_.points) by_points(*rules_.points);
    if (rules_.chains) by_chains(*rules_.chains);
    if (rules_.age) by_age(*rules_.age);
    for (const ThinRule& rule : rules_.thin) by_thinning(rule);
    return std::move(out_);
  }

 private:
  void want(std::size_t i, const std::string& rule, const std::string& reason) {
    if (out_[i].rule.empty()) out_[i] = {rule, reason};
  }

  // A clock that went back would make every point look young, and later all of them old.
  bool hold_still(const std::string& rule) {
    for (std::size_t i = 0; clock_behind_ && i < sets_.size(); ++i)
      want(i, rule, "a point is dated later than today's clock says: rules of time hold still");
    return clock_behind_;
  }

  void by_points(unsigned most) {
    std::string rule = "points = " + count_text(most, "point");
    std::string reason = "one of the newest " + count_text(most, "point");
    unsigned seen = 0;
    for (std::size_t i = sets_.size(); i-- > 0 && seen < most;) {
      if (counts(sets_[i])) ++seen;
      want(i, rule, reason);
    }
  }

  void by_chains(unsigned most) {
    std::string rule = "chains = " + count_text(most, "chain");
    std::string reason = "of the newest " + count_text(most, "chain");
    std::map<std::size_t, bool> good;
    for (std::size_t i = 0; i < sets_.size(); ++i) good[chains_[i]] |= counts(sets_[i]);
    unsigned seen = 0;
    for (auto chain = good.rbegin(); chain != good.rend() && seen < most; ++chain) {
      if (chain->second) ++seen;
      for (std::size_t i = 0; i < sets_.size(); ++i) {
        if (chains_[i] == chain->first) want(i, rule, reason);
      }
    }
  }

  void by_age(const Span& age) {
    std::string rule = "age = " + age.text(), reason = "not older than " + age.text();
    if (hold_still(rule)) return;
    Instant since = before(question_.now, age);
    std::map<std::size_t, Sequence> young;  // of a chain
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (sets_[i].facts.started < since) continue;
      young[chains_[i]] = sets_[i].facts.sequence;
      want(i, rule, reason);
    }
    for (std::size_t i = 0; !question_.endless && i < sets_.size(); ++i) {
      auto found = young.find(chains_[i]);
      if (found != young.end())
        want(i, rule, "point " + std::to_string(found->second) + " of its chain is " + reason);
    }
  }

  void by_thinning(const ThinRule& thin) {
    std::string text = thin.text(), rule = "thin = " + text;
    if (hold_still(rule)) return;
    std::optional<Instant> since;
    if (thin.during) since = before(question_.now, *thin.during);
    std::map<std::int64_t, std::size_t> last;  // good one of each period
    for (std::size_t i = 0; i < sets_.size(); ++i) {
      if (since && sets_[i].facts.started < *since) continue;
      if (!thin.one_each) {
        want(i, rule, text);
      } else if (counts(sets_[i])) {
        last[period(sets_[i].facts.started, *thin.one_each)] = i;
      }
    }
    for (const auto& [_, i] : last) want(i, rule, text + ", the last of them");
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
  std::map<Id, std::size_t> numbers;
  std::vector<std::size_t> out;
  for (const KeptSet& set : sets)
    out.push_back(numbers.emplace(set.facts.chain, numbers.size()).first->second);
  return out;
}

std::string unwanted_text(const KeepRules& rules, bool endless) {
  std::vector<std::string> parts;
  if (rules.age)
    parts.push_back((endless ? "" : "all of its chain is ") + std::string("older than ") + rules.age->text());
  if (rules.chains) parts.push_back("not of the newest " + count_text(*rules.chains, "chain"));
  if (rules.points) parts.push_back("not one of the newest " + count_text(*rules.points, "point"));
  if (!rules.thin.empty()) parts.emplace_back("thinned out");
  return join(parts, ", ");
}

std::vector<Promise> promises(const KeepQuestion& question, const KeepRules& rules) {
  return Wanted(question, rules).decide();
}

}  // namespace kestrum
