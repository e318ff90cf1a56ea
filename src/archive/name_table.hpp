// The table used for deduplication: which chunks are known, and in which set. Sixteen bytes a slot, 24 at
// most a chunk on average; a hit is a hint that the caller confirms by the full name.
#pragma once

#include <array>
#include <optional>

#include "archive/chunk_types.hpp"

namespace kestrum {

// Keeps twelve bytes of each name and a value. Sharded by the first byte so that growing copies a 256th at a
// time, and filled to 85 %: a shard grows by a fifth. Not for two threads.
class NameTable {
 public:
  // Room for so many, of a number that may be a lie: for no more than 4 million at once.
  void expect(std::size_t names);
  // The newest value wins.
  void put(const ChunkName& name, std::uint32_t value);
  std::optional<std::uint32_t> find(const ChunkName& name) const;
  std::size_t size() const { return size_; }
  std::size_t memory_bytes() const;

 private:
  struct Slot {
    std::array<std::uint32_t, 3> prefix{};
    std::uint32_t value_plus_one = 0;  // 0: empty
    // Compared for every name that is put or looked up; the array's own comparison is a call.
    bool is(const Slot& other) const {
      return prefix[0] == other.prefix[0] && prefix[1] == other.prefix[1] && prefix[2] == other.prefix[2];
    }
  };
  struct Shard {
    std::vector<Slot> slots;
    std::size_t used = 0;
  };
  static Slot key_of(const ChunkName& name);
  static std::size_t start(const Slot& key, std::size_t slots);
  static std::size_t probe(const std::vector<Slot>& slots, const Slot& key);
  static void grow(Shard& shard, std::size_t slots);

  std::array<Shard, 256> shards_;
  std::size_t size_ = 0;
};

}  // namespace kestrum
