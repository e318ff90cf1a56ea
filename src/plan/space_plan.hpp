// Will it fit: what the next set is likely to take, from those before. Pure.
#pragma once

#include "plan/chain_plan.hpp"

namespace kestrum {

struct SpaceNeed {
  std::uint64_t bytes = 0;
  bool sure = false;  // good enough to refuse a run for
};

// `kind`: of the set to come. Nothing is known before the first full set: 0, not sure.
SpaceNeed space_need(Kind kind, const std::vector<ChainSet>& sets);

}  // namespace kestrum
