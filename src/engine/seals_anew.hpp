// Sets of which neither seal reads any more, sealed anew.
#pragma once

#include "engine/session.hpp"

namespace kestrum {

struct SealedAnew {
  std::vector<Sequence> sets;
  std::vector<std::string> not_sealed;  // those for which that could not be done, and why
};

// From the rest of them and a set of the same chain (archive/lost_seals). What the list of files and the
// records of the run tell goes into the seal again: counts, and that the run stood out. What a person has
// said of the point is gone. `dry`: nothing is written. Throws Error: what the system could not do; Stopped.
SealedAnew seal_lost_sets(WriteSession& session, bool dry);

}  // namespace kestrum
