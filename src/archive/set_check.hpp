// Reading one set back: is every file of it as it was sealed?
#pragma once

#include <functional>
#include <unordered_set>

#include "archive/set_reader.hpp"

namespace kestrum {

struct SetFindings {
  std::vector<std::string> findings;  // plain words, each naming its file
  // Chunks that this set's index places where nothing good can be read.
  std::unordered_set<ChunkName, ChunkNameHash> lost;
  LostPlaces places;        // the same, as places
  bool index_lost = false;  // nothing of this set can be found
  std::uint64_t frames = 0;
  std::uint64_t bytes = 0;  // read
};

struct CheckOptions {
  bool deep = true;         // decrypt everything; else compare digests of headers and tags only
  bool drop_cache = false;  // read from the drive, not from memory
  bool own_only = false;    // not the files that a folded set has taken over as they were
  unsigned workers = 2;     // threads that read, decrypt and check; the caller's besides
  std::function<void(std::uint64_t bytes)> progress;  // of the caller's thread; may throw to stop
};

// Never throws for damage: that is the result.
SetFindings check_set(SetReader& set, const CheckOptions& options);

}  // namespace kestrum
