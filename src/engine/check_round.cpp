#include "engine/check_round.hpp"

#include <algorithm>

namespace kestrum {
namespace {

// Kept among the proofs, under slots which no file has.
enum class Aside : std::uint32_t {
  bad = 1u << 31,        // what was looked at and is bad, so that a round gets past it
  found_bad = 1u << 29,  // of a lost frame: when that was found
  read_well = 1u << 28,  // of a lost frame: when it last was not
};
Stretch aside(Aside what, const Stretch& stretch) {
  return {stretch.slot | static_cast<std::uint32_t>(what), stretch.from, stretch.to};
}
// Stands for a frame, or for a whole file.
Stretch place_of(std::uint32_t slot, std::uint64_t frame) {
  const std::uint64_t from = std::max<std::uint64_t>(frame, FileHeader::size);
  return {slot, from, from + 1};
}

}  // namespace

CheckRound::CheckRound(const RoundRequest& request, const Clock& clock, History* history)
    : request_(request), clock_(clock), history_(history), started_(std::chrono::steady_clock::now()) {}

void CheckRound::begin(const std::vector<const FoundSet*>& sets) {
  if (history_ == nullptr) return;
  std::vector<Id> ids;
  for (const FoundSet* set : sets) {
    if (set->sealed()) ids.push_back(set->facts().set);
  }
  const std::vector<std::vector<Proof>> known = history_->proofs(ids);
  for (std::size_t i = 0; i < ids.size(); ++i) proofs_[ids[i]] = SetProofs(known[i]);
  if (request_.name.empty()) return;
  const Instant now = clock_.now();
  if (!request_.anew) went_on_ = history_->round_begun(request_.name);
  if (went_on_ && went_on_->seconds + longest_seconds < now.seconds) went_on_.reset();
  began_ = went_on_.value_or(now);
  if (went_on_) return;
  // Later than all that was proved before, whatever the clock says.
  for (const std::vector<Proof>& proofs : known) {
    for (const Proof& proof : proofs) {
      if (proof.when >= *began_) began_ = Instant{proof.when.seconds + 1, 0};
    }
  }
  history_->set_round(request_.name, *began_);
}

const SetProofs& CheckRound::proofs(const Id& set) const {
  static const SetProofs none;
  const auto found = proofs_.find(set);
  return found == proofs_.end() ? none : found->second;
}

void CheckRound::sort(std::vector<const FoundSet*>& sets) const {
  const auto oldest = [&](const FoundSet* set) {
    return set->sealed() ? proofs(set->facts().set).since(set->seal->core, true) : std::nullopt;
  };
  std::vector<std::pair<std::optional<Instant>, const FoundSet*>> order;
  for (const FoundSet* set : sets) order.emplace_back(oldest(set), set);
  std::stable_sort(order.begin(), order.end(),
                   [](const auto& a, const auto& b) { return a.first < b.first; });
  for (std::size_t i = 0; i < sets.size(); ++i) sets[i] = order[i].second;
}

bool CheckRound::is_due(const Id& set, const Stretch& stretch) const {
  if (!went_on_) return true;
  const auto looked_at = [&](const Stretch& where) {
    const std::optional<Instant> when = proofs(set).since(where, true);
    return when && *when >= *went_on_;
  };
  return !looked_at(stretch) && !looked_at(aside(Aside::bad, stretch));
}

bool CheckRound::over() const {
  if (!any_done_) return false;
  const CheckBudget& budget = request_.budget;
  return (budget.time && std::chrono::steady_clock::now() - started_ >= *budget.time) ||
         (budget.bytes && done_bytes_ >= *budget.bytes);
}

void CheckRound::proved(const Id& set, const Stretch& stretch) {
  any_done_ = true;
  if (history_ == nullptr) return;
  for (const Aside what : {Aside::found_bad, Aside::read_well}) {
    const Stretch passed = aside(what, stretch);
    if (!proofs(set).any(passed)) continue;
    proofs_[set].take_back(passed);
    history_->take_back_proofs(set, passed);
  }
  keep(set, {stretch, std::max(clock_.now(), began_.value_or(Instant{})), true});
}

void CheckRound::keep(const Id& set, const Proof& proof) {
  constexpr std::size_t most = 16;  // that a check which is killed has to do again
  proofs_[set].add(proof);
  pending_[set].push_back(proof);
  if (++pending_count_ >= most) write();
}

void CheckRound::refuted(const Id& set, const Stretch& stretch) {
  any_done_ = true;
  if (history_ == nullptr) return;
  write();
  for (const Proof& proof : proofs_[set].take_back(stretch)) void_[set].add(proof);
  history_->take_back_proofs(set, stretch);
  bad_.emplace_back(set, aside(Aside::bad, stretch));
}

void CheckRound::lost(const Id& set, const LostPlaces& places) {
  if (history_ == nullptr) return;
  constexpr std::size_t most = 10000;
  std::vector<Stretch> lost;
  for (const std::uint32_t slot : places.slots) lost.push_back(place_of(slot, 0));
  for (const auto& [slot, frames] : places.frames) {
    for (const std::uint64_t frame : frames) lost.push_back(place_of(slot, frame));
  }
  lost.resize(std::min(lost.size(), most));
  for (const Stretch& place : lost) {
    if (proofs(set).any(aside(Aside::found_bad, place))) continue;
    const auto known = void_.find(set);
    const std::optional<Instant> well =
        known == void_.end() ? std::nullopt : known->second.since(place, false);
    if (well) keep(set, {aside(Aside::read_well, place), *well, false});
    keep(set, {aside(Aside::found_bad, place), clock_.now(), false});
  }
}

CheckRound::LostSince CheckRound::lost_since(const Id& set, std::uint32_t slot, std::uint64_t frame) const {
  const Stretch place = place_of(slot, frame);
  return {proofs(set).since(aside(Aside::read_well, place), false),
          proofs(set).since(aside(Aside::found_bad, place), false)};
}

void CheckRound::write() {
  for (const auto& [set, proofs] : pending_) history_->add_proofs(set, proofs);
  pending_.clear();
  pending_count_ = 0;
}

void CheckRound::end() {
  if (history_ == nullptr) return;
  // Not before the check that met them has come to its end, and what it found can be told.
  for (const auto& [set, where] : bad_)
    keep(set, {where, std::max(clock_.now(), began_.value_or(Instant{})), true});
  write();
  if (complete() && !request_.name.empty()) history_->set_round(request_.name, std::nullopt);
}

}  // namespace kestrum
