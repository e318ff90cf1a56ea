// Which pieces of a job's sets are there, after the sets were checked.
#pragma once

#include "archive/chain_reader.hpp"
#include "archive/name_table.hpp"
#include "engine/bad_places.hpp"

namespace kestrum {

class ChunkLooks {
 public:
  // Both must outlive this.
  ChunkLooks(ChainReader& chain, BadPlaces& bad) : chain_(chain), bad_(bad) {}

  // Nothing can be said of that set.
  void cannot_say(Sequence set) { unreadable_.insert(set); }
  bool cannot_be_said(Sequence set) const { return unreadable_.contains(set); }
  // What does not read of it. Once for each set that was looked at, before anything is asked.
  void lost(const FoundSet& set, const LostPlaces& places);
  // In one of the sets that the point reads.
  bool present(PointReader& point, const ChunkRef& ref);
  // Of one that is not present: where it lay, as far as that is known.
  void blame(PointReader& point, const ChunkRef& ref, std::set<BadPlaces::Place>& places);

 private:
  struct Chunks {
    NameTable names;
    std::unordered_map<ChunkName, BadPlaces::Place, ChunkNameHash> lost;
    bool usable = false;
    bool holds(const ChunkName& name) const { return usable && names.find(name) && !lost.contains(name); }
  };
  const Chunks& of(Sequence set);
  ChainReader& chain_;
  BadPlaces& bad_;
  std::map<Sequence, LostPlaces> places_;
  std::map<Sequence, Chunks> chunks_;
  std::set<Sequence> unreadable_;
};

}  // namespace kestrum
