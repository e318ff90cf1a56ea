#include "engine/bad_places.hpp"

#include <algorithm>

#include "base/text.hpp"

namespace kestrum {
namespace {

// Under which a whole file is found.
constexpr std::uint64_t all_of_it = 0;

// The earlier of two moments that both are known, or the one that is.
std::optional<Instant> earlier(const std::optional<Instant>& one, const std::optional<Instant>& other) {
  if (!one || !other) return one ? one : other;
  return std::min(*one, *other);
}

}  // namespace

BadPlaces::Place BadPlaces::add(const FoundSet& set, std::uint32_t slot, std::optional<std::uint64_t> frame) {
  const auto [known, is_new] =
      numbers_.try_emplace({set.folder.sequence, slot, frame.value_or(all_of_it)}, places_.size());
  if (!is_new) return known->second;
  BadPlace place;
  place.set = set.folder.sequence;
  place.folder = printable(set.folder.name);
  place.slot = slot;
  place.from = place.to = frame.value_or(0);
  place.whole = !frame;
  for (const SealedFile& file : set.seal->core.files) {
    if (file.slot != slot) continue;
    place.file = printable(file.name);
    if (place.whole) place.to = file.size;
  }
  places_.push_back({std::move(place), {}});
  return known->second;
}

std::optional<BadPlaces::Place> BadPlaces::at(Sequence set, std::uint32_t slot, std::uint64_t frame) const {
  for (const std::uint64_t offset : {all_of_it, frame}) {
    if (const auto known = numbers_.find({set, slot, offset}); known != numbers_.end()) return known->second;
  }
  return std::nullopt;
}

void BadPlaces::extends(Place place, std::uint32_t size) {
  BadPlace& facts = places_[place].facts;
  if (!facts.whole) facts.to = facts.from + size;
}

void BadPlaces::since(Place place, std::optional<Instant> read_well, std::optional<Instant> found) {
  places_[place].facts.read_well = read_well;
  places_[place].facts.found = found;
}

void BadPlaces::affects(const std::set<Place>& places, Sequence point, const std::string& path) {
  const std::size_t hash = std::hash<std::string>()(path);
  for (const Place place : places) {
    places_[place].paths.insert(hash);
    places_[place].facts.points.insert(point);
  }
}

std::vector<BadPlace> BadPlaces::merged(std::vector<std::size_t>& number) const {
  // By set, file and offset.
  std::vector<Known> all;
  std::vector<std::size_t> of(places_.size());
  for (const auto& [key, place] : numbers_) {
    const Known& next = places_[place];
    const bool goes_on = !all.empty() && all.back().facts.set == next.facts.set &&
                         all.back().facts.slot == next.facts.slot && all.back().facts.to == next.facts.from &&
                         !all.back().facts.whole;
    if (goes_on) {
      Known& last = all.back();
      last.facts.to = next.facts.to;
      last.facts.read_well = earlier(last.facts.read_well, next.facts.read_well);
      last.facts.found = earlier(last.facts.found, next.facts.found);
      last.facts.points.insert(next.facts.points.begin(), next.facts.points.end());
      last.paths.insert(next.paths.begin(), next.paths.end());
    } else {
      all.push_back(next);
    }
    of[place] = all.size() - 1;
  }
  std::vector<std::size_t> order(all.size());
  for (std::size_t i = 0; i < all.size(); ++i) {
    order[i] = i;
    all[i].facts.files = all[i].paths.size();
  }
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return all[a].facts.files > all[b].facts.files; });
  std::vector<BadPlace> sorted;
  std::vector<std::size_t> rank(all.size());
  for (const std::size_t i : order) {
    rank[i] = sorted.size();
    sorted.push_back(std::move(all[i].facts));
  }
  number.resize(places_.size());
  for (std::size_t place = 0; place < of.size(); ++place) number[place] = rank[of[place]];
  return sorted;
}

}  // namespace kestrum
