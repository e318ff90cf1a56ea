// Content that a job's sets have lost, looked for elsewhere by its name.
#pragma once

#include <functional>
#include <memory>
#include <unordered_map>

#include "archive/chain_reader.hpp"
#include "engine/disk_today.hpp"
#include "engine/session.hpp"

namespace kestrum {

// A chunk that points refer to and cannot have, and what refers to it.
struct LostChunk {
  ChunkName name;
  Sequence set = 0;  // that held it for them
  FrameKind kind = FrameKind::content;
  std::uint32_t length = 0;
  struct Use {
    std::shared_ptr<const Entry> entry;  // without its content; all pieces of a file share it
    std::uint64_t at = 0;                // in the file
  };
  static constexpr std::size_t most_uses = 4;
  // In files of different paths, those of newer points first; none: no file's own content.
  std::vector<Use> uses = {};
};
struct LostChunks {
  std::vector<LostChunk> chunks;  // one that several chains have lost comes once for each of their sets
  bool all = true;                // false: some lists do not read, and what they refer to is not known
};

// All that any point of the chain refers to and cannot have. `chain` knows what is lost of its sets.
// `checkpoint`: called now and then; may throw.
LostChunks find_lost(ChainReader& chain, const std::function<void()>& checkpoint);

// From any of its sets whose key is at hand, wherever it reads and was not marked as lost; checked against
// the name. Nothing when there is none.
std::optional<Bytes> fetch_from_sets(ChainReader& chain, const ChunkName& name, const Naming& naming);

// On other destinations of the job.
class Elsewhere {
 public:
  // Those must outlive this.
  explicit Elsewhere(const std::vector<LookSession*>& others);
  std::optional<Bytes> fetch(const ChunkName& name, const Naming& naming);

 private:
  std::vector<std::unique_ptr<ChainReader>> chains_;
};

// In today's files of the same paths: at the same place, else wherever cutting them anew finds it.
class FromSources {
 public:
  // `here`: the points are of this machine.
  explicit FromSources(bool here) : today_(here) {}
  std::optional<Bytes> fetch(const LostChunk& chunk, const SecretKey& naming_key);

 private:
  struct Place {
    std::uint64_t at;
    std::uint32_t length;
  };
  using Pieces = std::unordered_map<ChunkName, Place, ChunkNameHash>;
  const Pieces& pieces_of(const TreePath& path, int fd, const SecretKey& naming_key);
  DiskToday today_;
  // Of the files that were asked for lately: pieces of one file are asked for one after the other.
  std::map<TreePath, Pieces> cut_;
};

}  // namespace kestrum
