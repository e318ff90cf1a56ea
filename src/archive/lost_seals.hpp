// The seal of a set of which neither of the two reads any more, from what else there is of the set.
#pragma once

#include <functional>

#include "archive/found_set.hpp"

namespace kestrum {

// `like`: a sealed set of the same chain, whose ways in, naming key and names this one had too. The root
// comes from the closing frame, the digests from the files as they are now; every head and tag of them is
// read. What a seal says besides and no file does is left out: `needs` are all earlier sets of the chain (of
// `list`), the start is that of the folder's name, counts of files are 0. Throws damage where it cannot be
// done, saying why: another key, a missing or damaged file, a folded set.
Seal seal_anew(const Store& store, const SetFolder& folder, const SetList& list, const FoundSet& like,
               const SecretKey& master, const std::function<void(std::uint64_t bytes)>& progress);

}  // namespace kestrum
