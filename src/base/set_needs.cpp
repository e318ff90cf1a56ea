#include "base/set_needs.hpp"

#include <algorithm>

namespace kestrum {

SetNeeds::SetNeeds(std::vector<const SetFacts*> sets) : sets_(std::move(sets)) {}

std::size_t SetNeeds::meeting(const SetNeed& need, const Id& chain) const {
  auto place = [&](auto at) { return static_cast<std::size_t>(at - sets_.begin()); };
  auto at = std::lower_bound(sets_.begin(), sets_.end(), need.sequence,
                             [](const SetFacts* set, Sequence sequence) { return set->sequence < sequence; });
  if (at != sets_.end() && same_id((*at)->set, need.set)) return place(at);
  // Or the set that it was folded into: the first of the chain that does not end before it.
  while (at != sets_.end() && !same_id((*at)->chain, chain)) ++at;
  if (at != sets_.end() && (*at)->meets(need, chain)) return place(at);
  // Or wherever a set of that name is.
  at = std::find_if(sets_.begin(), sets_.end(), [&](const SetFacts* set) { return set->set == need.set; });
  return at == sets_.end() ? none : place(at);
}

std::vector<std::size_t> SetNeeds::earlier(const SetFacts& start) const {
  std::vector<std::size_t> out;
  for (std::size_t i = 0; i < sets_.size() && sets_[i]->sequence < start.sequence; ++i) {
    if (sets_[i]->chain == start.chain && sets_[i] != &start) out.push_back(i);
  }
  return out;
}

namespace {

// Follows needs. Seals are anybody's words: needs that go round, or branch without end, end here all the
// same.
class Collector {
 public:
  Collector(const SetNeeds& needs, SetNeeds::Closure& out) : needs_(needs), out_(out) {}

  // Marks in `in` what `start` needs. A chain of sets with one need each, which is nearly all there is, is
  // gone through without recursion.
  void collect(const SetFacts& start, std::vector<bool>& in) {
    std::set<Sequence> without;
    const SetFacts* now = &start;
    while (true) {
      without.insert(now->without.begin(), now->without.end());
      if (!now->needs_follow || now->needs.size() != 1) break;
      std::size_t met = earlier_one(now->needs[0], *now);
      if (met == SetNeeds::none) return miss(now->needs[0], without);
      if (!without.contains(needs_.facts(met).sequence)) in[met] = true;
      now = &needs_.facts(met);
    }
    for (const SetNeed& need : now->needs) {
      if (++steps_ > most_steps) {
        out_.guessed = true;
        return;
      }
      std::size_t met = earlier_one(need, *now);
      if (met == SetNeeds::none) {
        miss(need, without);
        continue;
      }
      if (!now->needs_follow) {
        if (!without.contains(needs_.facts(met).sequence)) in[met] = true;
        continue;
      }
      std::vector<bool> below(needs_.size(), false);
      below[met] = true;
      collect(needs_.facts(met), below);
      for (std::size_t i = 0; i < below.size(); ++i) {
        if (below[i] && !without.contains(needs_.facts(i).sequence)) in[i] = true;
      }
    }
  }

 private:
  // A writer only builds on what was there before.
  std::size_t earlier_one(const SetNeed& need, const SetFacts& of) const {
    std::size_t met = needs_.meeting(need, of.chain);
    bool earlier = met != SetNeeds::none && needs_.facts(met).sequence < of.sequence;
    return earlier ? met : SetNeeds::none;
  }

  void miss(const SetNeed& need, const std::set<Sequence>& without) {
    out_.guessed = true;
    if (!without.contains(need.sequence) && missed_.insert(need.set).second) out_.missing.push_back(need);
  }

  static constexpr std::size_t most_steps = 1u << 18;
  const SetNeeds& needs_;
  SetNeeds::Closure& out_;
  std::set<Id> missed_;
  std::size_t steps_ = 0;
};

}  // namespace

SetNeeds::Closure SetNeeds::closure(const SetFacts& start) const {
  Closure out;
  std::vector<bool> in(sets_.size(), false);
  Collector(*this, out).collect(start, in);
  if (out.guessed) {
    for (std::size_t i : earlier(start)) in[i] = true;
  }
  for (std::size_t i = 0; i < in.size(); ++i) {
    if (in[i] && sets_[i] != &start) out.met.push_back(i);
  }
  return out;
}

void SetNeeds::add_direct(std::size_t i, std::vector<std::size_t>& out) const {
  const std::size_t begin = out.size();
  const auto first = static_cast<std::ptrdiff_t>(begin);
  for (const SetNeed& need : sets_[i]->needs) {
    // Mostly the one before.
    bool before = i > 0 && same_id(sets_[i - 1]->set, need.set);
    std::size_t met = before ? i - 1 : meeting(need, sets_[i]->chain);
    if (met == none) {
      std::vector<std::size_t> all = earlier(*sets_[i]);
      out.resize(begin);
      out.insert(out.end(), all.begin(), all.end());
      return;
    }
    if (met != i && std::find(out.begin() + first, out.end(), met) == out.end()) out.push_back(met);
  }
}

}  // namespace kestrum
