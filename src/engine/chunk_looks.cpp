#include "engine/chunk_looks.hpp"

#include <algorithm>

namespace kestrum {

void ChunkLooks::lost(const FoundSet& set, const LostPlaces& places) {
  places_[set.folder.sequence] = places;
  for (const std::uint32_t slot : places.slots) bad_.add(set, slot, std::nullopt);
  for (const auto& [slot, frames] : places.frames) {
    for (const std::uint64_t frame : frames) {
      if (!places.slots.contains(slot)) bad_.add(set, slot, frame);
    }
  }
}

// Read when the first list refers to it.
const ChunkLooks::Chunks& ChunkLooks::of(Sequence set) {
  const auto [place, is_new] = chunks_.try_emplace(set);
  Chunks& chunks = place->second;
  if (!is_new || unreadable_.contains(set)) return chunks;
  SetReader* const reader = chain_.try_set(set);
  const LostPlaces& lost = places_[set];
  if (reader == nullptr || lost.slots.contains(0)) return chunks;
  reader->each_record([&](const IndexRecord& record) {
    chunks.names.put(record.name, 0);
    if (!lost.covers(record.slot, record.frame.offset)) return;
    const std::optional<BadPlaces::Place> where = bad_.at(set, record.slot, record.frame.offset);
    if (!where) return;
    bad_.extends(*where, record.frame.size);
    chunks.lost.emplace(record.name, *where);
  });
  chunks.usable = true;
  return chunks;
}

bool ChunkLooks::present(PointReader& point, const ChunkRef& ref) {
  const auto& sources = point.sources();
  const bool among = std::find(sources.begin(), sources.end(), ref.sequence) != sources.end();
  if (among && of(ref.sequence).holds(ref.name)) return true;
  return std::any_of(sources.begin(), sources.end(), [&](Sequence set) { return of(set).holds(ref.name); });
}

void ChunkLooks::blame(PointReader& point, const ChunkRef& ref, std::set<BadPlaces::Place>& places) {
  for (const Sequence set : point.sources()) {
    const Chunks& chunks = of(set);
    if (const auto lost = chunks.lost.find(ref.name); lost != chunks.lost.end()) places.insert(lost->second);
    const std::optional<BadPlaces::Place> index = bad_.at(set, 0, 0);
    if (!chunks.usable && set == ref.sequence && index) places.insert(*index);
  }
}

}  // namespace kestrum
