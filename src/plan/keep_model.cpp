#include "plan/keep_model.hpp"

#include <algorithm>
#include <numeric>

#include "base/set_needs.hpp"

namespace kestrum {

KeepModel::KeepModel(const KeepQuestion& asked)
    : question(asked),
      rules(acting_rules(asked.rules)),
      sets(asked.sets),
      chain(chain_numbers(asked.sets)),
      time(job_time(asked.sets, asked.now)),
      wanted_by(promises(asked, rules, time)),
      into(sets.size(), nobody),
      gone(sets.size(), false),
      reason(sets.size()),
      overridden(sets.size(), false) {
  std::size_t count = 0;  // of chains
  for (std::size_t c : chain) count = std::max(count, c + 1);
  members_begin_.assign(count + 1, 0);
  for (std::size_t c : chain) ++members_begin_[c + 1];
  std::partial_sum(members_begin_.begin(), members_begin_.end(), members_begin_.begin());
  std::vector<std::size_t> next(members_begin_.begin(), members_begin_.end() - 1);
  members_.resize(sets.size());
  place_.resize(sets.size());
  needs_begin_.reserve(sets.size() + 1);
  for (std::size_t i = 0; i < sets.size(); ++i) {
    place_[i] = next[chain[i]] - members_begin_[chain[i]];
    members_[next[chain[i]]++] = i;
  }
  std::vector<const SetFacts*> facts;
  facts.reserve(sets.size());
  for (const KeptSet& set : sets) facts.push_back(&set.facts);
  const SetNeeds graph(std::move(facts));
  for (std::size_t i = 0; i < sets.size(); ++i) {
    needs_begin_.push_back(needs_.size());
    graph.add_direct(i, needs_);
    job_bytes += stored(i);
    if (counts(i)) newest_good = i;
  }
  job_bytes += question.beside;
  needs_begin_.push_back(needs_.size());
  for (std::size_t c = 0; c < chains(); ++c) {
    std::span<const std::size_t> all = members(c);
    auto sound = [this](std::size_t i) { return sets[i].good && !sets[i].suspect; };
    auto point = [this](std::size_t i) { return counts(i); };
    if (std::all_of(all.begin(), all.end(), sound) && std::any_of(all.begin(), all.end(), point))
      good_chain = c;
  }
}

bool KeepModel::whole_chain_stays(std::size_t c) const {
  return c + 1 == chains() || c == good_chain || (newest_good != nobody && chain[newest_good] == c);
}

bool KeepModel::floor_allows(std::size_t good_points) const {
  std::size_t left = 0;
  for (std::size_t i = 0; i < sets.size(); ++i) left += stays(i) && counts(i) ? 1 : 0;
  return good_points == 0 || left >= good_points + rules.at_least;
}

std::vector<std::size_t> KeepModel::holders() const {
  std::vector<std::size_t> out(sets.size());
  for (std::size_t i = sets.size(); i-- > 0;) out[i] = into[i] == nobody ? i : out[into[i]];
  return out;
}

std::vector<std::size_t> KeepModel::needed_by() const {
  std::vector<std::size_t> user(sets.size(), nobody);
  const std::vector<std::size_t> holder = holders();
  for (std::size_t j = sets.size(); j-- > 0;) {
    if (gone[j]) continue;
    for (std::size_t need : needs(j)) {
      std::size_t held = holder[need], by = holder[j];
      if (held != by) user[held] = by;
    }
  }
  return user;
}

std::vector<bool> KeepModel::closure(const std::vector<bool>& wanted) const {
  std::vector<bool> needed(sets.size(), false);
  for (std::size_t j = sets.size(); j-- > 0;) {
    if (!wanted[j] && !needed[j]) continue;
    for (std::size_t need : needs(j)) needed[need] = true;
  }
  return needed;
}

std::uint64_t KeepModel::removed_bytes() const {
  std::uint64_t bytes = 0;
  for (std::size_t i = 0; i < sets.size(); ++i) bytes += gone[i] ? stored(i) : 0;
  return bytes;
}

std::uint64_t KeepModel::hoped_from_folds() const {
  std::uint64_t bytes = 0;
  for (std::size_t i = 0; i < sets.size(); ++i) {
    if (into[i] != nobody) bytes += std::min(stored(i), stored(next_in_chain(i)));
  }
  return bytes;
}

std::size_t KeepModel::next_in_chain(std::size_t i) const {
  std::span<const std::size_t> all = members(chain[i]);
  for (std::size_t k = place_[i] + 1; k < all.size(); ++k) {
    if (!gone[all[k]]) return all[k];
  }
  return i;
}

std::uint64_t KeepModel::yielded(std::uint64_t hoped) const {
  return hoped / 1000 * question.fold_yield + hoped % 1000 * question.fold_yield / 1000;
}

std::uint64_t KeepModel::excess(bool with_folds, bool own) const {
  std::uint64_t freed = removed_bytes();
  if (with_folds) freed += yielded(hoped_from_folds());
  freed = std::min(freed, job_bytes);
  const std::uint64_t held = job_bytes - freed, free = question.free + freed;
  // The less there is, the less folding needs.
  const std::uint64_t reserve = std::min(question.reserve, fold_reserve(rules, question.endless, held));
  std::int64_t room = own ? room_for_run(rules, held, question.total, free, freed, reserve)
                          : room_left(rules, held, question.total, free, reserve);
  room -= static_cast<std::int64_t>(question.make_room);
  return room >= 0 ? 0 : static_cast<std::uint64_t>(-room);
}

bool KeepModel::try_fold(std::size_t i, const std::vector<bool>* targets) {
  if (!sets[i].good || sets[i].closed) return false;
  std::span<const std::size_t> all = members(chain[i]);
  for (std::size_t k = place_[i] + 1; k < all.size(); ++k) {
    std::size_t j = all[k];
    if (gone[j]) continue;
    if (!sets[j].good) return false;
    if (!stays(j) || (targets != nullptr && !(*targets)[j])) continue;
    into[i] = j;
    return true;
  }
  return false;
}

}  // namespace kestrum
