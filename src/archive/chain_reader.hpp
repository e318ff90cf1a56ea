// The sets of one job folder seen together: finds any chunk that a point refers to.
#pragma once

#include "archive/chunk_store.hpp"
#include "archive/frame_cache.hpp"
#include "archive/key_entry.hpp"
#include "archive/set_reader.hpp"
#include "archive/set_writer.hpp"

namespace kestrum {

// Opens sets as they are needed. The store must outlive this; one thread.
class ChainReader {
 public:
  ChainReader(const Store& store, SetList sets, KeyRing& keys);

  const SetList& sets() const { return sets_; }
  // Opened and authenticated; throws damage when there is no such set or its seal is not ours, key when
  // locked.
  SetReader& set(Sequence sequence);
  // The same, nothing instead of damage.
  SetReader* try_set(Sequence sequence);

 private:
  const Store& store_;
  SetList sets_;
  KeyRing& keys_;
  std::map<Sequence, std::unique_ptr<SetReader>> open_;
  std::size_t pages_each_ = 0;
};

// Chunks as one point sees them: in its set and in what that needs.
class PointReader final : public ChunkSource {
 public:
  PointReader(ChainReader& chain, Sequence sequence) : PointReader(chain, std::vector{sequence}) {}
  // As several points of one naming key see them together; at least one, of which the last is `set`. For
  // whoever goes through many points: it holds frames, which are not small.
  PointReader(ChainReader& chain, const std::vector<Sequence>& points);
  SetReader& set() { return set_; }
  const std::vector<Sequence>& sources() const { return sources_; }
  const Naming& naming() const { return naming_; }

  // Checked against its name. Looks where the reference hints, then everywhere the point may look.
  Bytes fetch(const ChunkRef& ref) override;
  void expect(const ChunkRef& ref) override;
  void sift(Sieve sieve) override { frames_.sift(std::move(sieve)); }
  bool passes(const ChunkRef& ref) override;
  // The same without a copy.
  ChunkView view(const ChunkRef& ref);
  UnpackWork unpacked() const { return frames_.unpacked(); }  // so far
  // Where it would be read from, without reading it.
  std::optional<std::pair<SetReader*, IndexRecord>> locate(const ChunkRef& ref);

 private:
  std::vector<Sequence> order(const ChunkRef& ref) const;

  ChainReader& chain_;
  SetReader& set_;
  Naming naming_;
  std::vector<Sequence> sources_;      // own first
  std::vector<Sequence> covers_from_;  // of each
  FrameCache frames_{naming_};
};

// What a new set may refer to: the chunks of the sets given, without those known to be lost. The first chunks
// asked for are looked up in single pages of the indexes, and only then are the indexes read whole: a run in
// which hardly anything changed reads hardly anything.
class ChainChunks final : public KnownChunks {
 public:
  explicit ChainChunks(std::vector<SetReader*> sets) : sets_(std::move(sets)) {}
  std::optional<Sequence> find(const ChunkName& name) override;
  // A chunk that is known to be there (a catalog page just read from an earlier set), without reading an
  // index.
  void remember(const ChunkRef& ref) { remembered_.insert_or_assign(ref.name, ref.sequence); }
  // True when the reference can be taken over as it is.
  bool good(const ChunkRef& ref);
  bool any_losses() const;

 private:
  static constexpr std::size_t most_page_reads = 1024;
  void load();
  std::optional<Sequence> find_by_page(const ChunkName& name);
  std::vector<SetReader*> sets_;
  std::size_t page_reads_ = 0;
  NameTable table_;
  bool loaded_ = false;
  std::unordered_map<ChunkName, Sequence, ChunkNameHash> remembered_;
};

}  // namespace kestrum
