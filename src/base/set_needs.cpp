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

// Marks in `in` what `start` needs. A chain of sets with one need each, which is nearly all there is, is gone
// through without recursion.
void SetNeeds::collect(const SetFacts& start, std::vector<bool>& in, Closure& out) const {
  std::vector<Sequence> without;
  auto left_out = [&](Sequence sequence) {
    return std::find(without.begin(), without.end(), sequence) != without.end();
  };
  auto miss = [&](const SetNeed& need) {
    out.guessed = true;
    bool known = std::any_of(out.missing.begin(), out.missing.end(),
                             [&](const SetNeed& other) { return other.set == need.set; });
    if (!known && !left_out(need.sequence)) out.missing.push_back(need);
  };
  const SetFacts* now = &start;
  while (true) {
    without.insert(without.end(), now->without.begin(), now->without.end());
    if (!now->needs_follow || now->needs.size() != 1) break;
    std::size_t met = meeting(now->needs[0], now->chain);
    if (met == none) return miss(now->needs[0]);
    if (!left_out(sets_[met]->sequence)) in[met] = true;
    now = sets_[met];
  }
  for (const SetNeed& need : now->needs) {
    std::size_t met = meeting(need, now->chain);
    if (met == none) {
      miss(need);
      continue;
    }
    std::vector<bool> below(sets_.size(), false);
    below[met] = true;
    if (now->needs_follow) collect(*sets_[met], below, out);
    for (std::size_t i = 0; i < below.size(); ++i) {
      if (below[i] && !left_out(sets_[i]->sequence)) in[i] = true;
    }
  }
}

SetNeeds::Closure SetNeeds::closure(const SetFacts& start) const {
  Closure out;
  std::vector<bool> in(sets_.size(), false);
  collect(start, in, out);
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
