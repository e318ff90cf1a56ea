// Mending the files of one sealed set: from parity, and an index from its volumes. What is mended is written
// beside the damaged file and takes its place once it is proved to be no worse; killed at any moment, nothing
// is lost, and mending can begin again.
#pragma once

#include "archive/index_writer.hpp"
#include "archive/parity.hpp"
#include "archive/set_reader.hpp"

namespace kestrum {

struct FileMending {
  std::uint64_t lost = 0;    // slices that are not as they were
  std::uint64_t mended = 0;  // of them: that can be, or were, brought back
  bool whole = false;        // all of the file is as it was sealed now
};

struct MendOptions {
  bool dry = false;  // only what could be done
  // Told of what was read or written; may throw to stop.
  std::function<void(std::uint64_t bytes)> progress = {};
  // Asked before anything on the drive changes; may throw.
  std::function<void()> guard = {};
};

// A file of the set, from its parity. Throws damage where the parity itself does not read, or what came of it
// does not prove to be what was sealed: then nothing has changed.
FileMending mend_file(Store& store, SetReader& set, const SecretKey& master, std::uint32_t slot,
                      const MendOptions& options);

// What an interrupted mending has left in the folder. A mended copy whose original is gone takes its place.
void settle_mending(Store& store, const SetReader& set);

// Both seals as the one that counts has it. False: they were already.
bool mend_seals(Store& store, const FoundSet& set, const MendOptions& options);

// The records of an index as its volumes say them: of every frame that authenticates. `volumes`: slots.
std::vector<IndexRecord> records_of_volumes(SetReader& set,
                                            const std::function<void(std::uint64_t)>& progress);

// What comes in the place of the set's index, or is added to it.
struct SetAddition {
  std::vector<IndexRecord> records;  // all that the index is to have, in any order
  std::vector<SealedFile> volumes;   // new ones, in the set's folder
  std::vector<SealedParity> parity;  // of new volumes
  unsigned parity_percent = 0;       // of the new index
};
// Writes a new index, then the seals that name it, then removes the old one. `set` is to be read anew
// afterwards.
void replace_index(Store& store, const FoundSet& found, const SetReader& set, const SecretKey& master,
                   SetAddition addition, const MendOptions& options);

// Parity for those files of the set that have none. Returns how many got some.
std::size_t add_parity(Store& store, const FoundSet& found, const SetReader& set, const SecretKey& master,
                       unsigned percent, const MendOptions& options);

}  // namespace kestrum
