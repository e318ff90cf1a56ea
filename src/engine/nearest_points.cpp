#include "engine/nearest_points.hpp"

#include <algorithm>

namespace kestrum {

NearestPoints::NearestPoints(std::vector<LookSession>& subjects, std::size_t subject, const SetFacts& wanted)
    : subjects_(subjects) {
  for (std::size_t i = 0; i < subjects.size(); ++i) {
    for (const FoundSet& set : subjects[i].proved_sets()) {
      if (set.sealed() && !set.facts().standing.given_up()) candidates_.push_back({i, set.facts()});
    }
  }
  order([&](const Candidate& one) {
    constexpr std::int64_t second = 1000000000;
    const std::int64_t away = (one.facts.started.seconds - wanted.started.seconds) * second +
                              one.facts.started.nanoseconds - wanted.started.nanoseconds;
    // A clock that stood still.
    const bool told = away != 0 || one.subject != subject;
    return told ? away
                : static_cast<std::int64_t>(one.facts.sequence) - static_cast<std::int64_t>(wanted.sequence);
  });
}

NearestPoints::NearestPoints(std::vector<LookSession>& subjects, std::size_t subject, Sequence wanted)
    : subjects_(subjects) {
  for (const FoundSet& set : subjects[subject].proved_sets()) {
    if (set.sealed() && !set.facts().standing.given_up()) candidates_.push_back({subject, set.facts()});
  }
  order([&](const Candidate& one) {
    return static_cast<std::int64_t>(one.facts.sequence) - static_cast<std::int64_t>(wanted);
  });
}

void NearestPoints::order(const std::function<std::int64_t(const Candidate&)>& distance) {
  for (std::size_t i = 0; i < candidates_.size(); ++i) all_.push_back(i);
  // Of two as near, the earlier one: what went bad since is not in it.
  std::stable_sort(all_.begin(), all_.end(), [&](std::size_t a, std::size_t b) {
    const std::int64_t left = distance(candidates_[a]), right = distance(candidates_[b]);
    return std::pair(std::abs(left), left) < std::pair(std::abs(right), right);
  });
  for (const std::size_t one : all_) {
    const std::int64_t away = distance(candidates_[one]);
    if (away != 0) (away < 0 ? before_ : after_).push_back(one);
  }
}

std::shared_ptr<OpenPoint> NearestPoints::open(std::size_t candidate) {
  auto [place, is_new] = open_.try_emplace(candidate);
  if (!is_new) return place->second;
  // Each holds frames; few are needed at a time.
  constexpr std::size_t most_open = 4;
  if (open_.size() > most_open) {
    for (auto one = open_.begin(); one != open_.end();)
      one = one->first == candidate ? std::next(one) : open_.erase(one);
  }
  const Candidate& wanted = candidates_[candidate];
  try {
    place->second = std::make_shared<OpenPoint>(subjects_[wanted.subject],
                                                PointWish{PointWish::By::number, wanted.facts.sequence, {}});
  } catch (const Error& error) {
    if (!does_not_read(error) && error.kind() != ErrorKind::key && error.kind() != ErrorKind::usage) throw;
  }
  return place->second;
}

bool NearestPoints::each_of(const Places& places, const std::function<bool(OpenPoint&)>& use) {
  return std::any_of(places.begin(), places.end(), [&](std::size_t candidate) {
    const std::shared_ptr<OpenPoint> point = open(candidate);
    return point != nullptr && use(*point);
  });
}

std::string NearestPoints::names_of(const std::function<bool(OpenPoint&)>& good) {
  std::string names;
  const auto take = [&](OpenPoint& point) {
    if (!good(point)) return false;
    names += (names.empty() ? "point " : " and point ") + point_text(point.facts());
    return true;
  };
  each_before(take);
  each_after(take);
  return names;
}

}  // namespace kestrum
