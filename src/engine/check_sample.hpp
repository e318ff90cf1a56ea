// What a check of depth `sample` reads.
#pragma once

#include <map>
#include <set>

#include "archive/chain_reader.hpp"
#include "engine/check_round.hpp"

namespace kestrum {

struct SampleWish {
  unsigned percent = 5;               // of the bytes, 1 to 100
  std::optional<std::uint64_t> said;  // a seed that a person gave: the same sample each time
  std::uint64_t seed = 0;             // that holds
};

struct CheckSample {
  static constexpr std::uint64_t stretch = 4u << 20;  // bytes that are chosen or left out as one
  bool has(const Id& set, const Stretch& where) const {
    const auto chosen = parts.find(set);
    return chosen != parts.end() && chosen->second.contains({where.slot, where.from});
  }
  std::map<Id, std::set<std::pair<std::uint32_t, std::uint64_t>>> parts;  // where each begins
  std::set<Sequence> lists;                                               // of these points
};

// So many parts of all sets as come up to the share: what was read longest ago, else as the seed has it.
CheckSample choose_sample(const std::vector<const FoundSet*>& sets, ChainReader& chain,
                          const CheckRound& round, const SampleWish& wish);

}  // namespace kestrum
