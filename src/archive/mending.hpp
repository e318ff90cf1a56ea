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

// Both seals as the one that authenticates has it. False: they were already.
bool mend_seals(Store& store, const SetReader& set, const MendOptions& options);

// The records of an index as its volumes say them: of every frame that authenticates. `volumes`: slots.
std::vector<IndexRecord> records_of_volumes(SetReader& set,
                                            const std::function<void(std::uint64_t)>& progress);

// What an index that is written anew is to have, and what comes with it.
struct NewIndex {
  std::vector<IndexRecord> records;  // in any order
  std::vector<SealedFile>
      volumes;  // new ones, in the set's folder; those of a slot that there is take its place
  std::vector<SealedParity> parity;  // of these
  unsigned parity_percent = 0;       // of the index; 0: none
};
// Writes it, then the seals that name it, then removes the old one. The folder is to be read anew afterwards.
void replace_index(Store& store, const SetReader& set, const SecretKey& master, NewIndex index,
                   const MendOptions& options);

// A chunk that the set has lost and that was found elsewhere.
struct FoundPiece {
  ChunkName name;
  FrameKind kind = FrameKind::content;
  Bytes content;  // of that name
};
struct PieceOptions {
  int level = 3;                // zstd
  unsigned parity_percent = 0;  // 0: none
};
// Into a new volume of the set and a new index, without the places that are marked as lost in `set`. What the
// set has anyhow is not put in twice.
void put_pieces(Store& store, SetReader& set, const SecretKey& master, const std::vector<FoundPiece>& pieces,
                const PieceOptions& how, const MendOptions& options);

// These files anew, of what still reads of them: what is lost was found elsewhere, or nobody needs it.
void give_up_lost(Store& store, SetReader& set, const SecretKey& master, const std::set<std::uint32_t>& slots,
                  const PieceOptions& how, const MendOptions& options);

// Parity in the place of what does not read of it; `add`: and for files that have none. Returns of how many
// files.
std::size_t renew_parity(Store& store, const SetReader& set, const SecretKey& master, unsigned percent,
                         bool add, const MendOptions& options);

}  // namespace kestrum
