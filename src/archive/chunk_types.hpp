// What chunks are called and how they are referred to. docs/FORMAT.md sections 1 and 3.
#pragma once

#include <compare>
#include <cstring>

#include "archive/crypto.hpp"
#include "base/set_facts.hpp"

namespace kestrum {

struct ChunkName {
  std::array<std::uint8_t, 32> bytes{};
  auto operator<=>(const ChunkName&) const = default;
};

// Names are keyed digests: any eight bytes of one are as good a hash as can be had.
struct ChunkNameHash {
  std::size_t operator()(const ChunkName& name) const {
    std::size_t hash = 0;
    std::memcpy(&hash, name.bytes.data(), sizeof hash);
    return hash;
  }
};

struct ChunkRef {
  ChunkName name;
  Sequence sequence = 0;     // hint: the set expected to hold it
  std::uint64_t length = 0;  // of the content, bytes; 0 means "none" in a root
  bool operator==(const ChunkRef&) const = default;
};

void write_ref(ByteWriter& out, const ChunkRef& ref);
ChunkRef read_ref(ByteReader& in);
ChunkName read_name(ByteReader& in);

// The job-wide key that names chunks and seeds the cutting table.
class Naming {
 public:
  explicit Naming(const SecretKey& key);
  ChunkName name(ByteView content) const;
  const SecretKey& key() const { return key_; }

 private:
  SecretKey key_;
  SecretKey chunk_key_;
};

// Limits of docs/FORMAT.md section 1.
namespace limits {
inline constexpr std::uint64_t frame_content = 16u << 20;
inline constexpr std::uint64_t frame_box = 17u << 20;
inline constexpr std::uint64_t chunk = 8u << 20;
inline constexpr std::uint64_t chunks_per_frame = 65536;
inline constexpr std::uint64_t page = 64u << 10;
inline constexpr std::uint64_t levels = 16;
// Stretches of one file, in all its lists: sixteen TiB in the smallest pieces that files are cut into.
inline constexpr std::uint64_t content_items = 1u << 26;
inline constexpr std::uint64_t path = 1u << 20;
inline constexpr std::uint64_t fence = 256u << 20;
inline constexpr std::uint64_t seal_file = 16u << 20;
inline constexpr std::uint64_t identity_file = 64u << 10;
inline constexpr std::uint64_t root = 64u << 10;
inline constexpr std::uint32_t argon2_memory_kib = 1u << 20;
inline constexpr std::uint32_t argon2_passes = 16;
// KiB times passes, of all entries that one command tries: one at the highest cost, 128 at the usual one.
inline constexpr std::uint64_t argon2_total = std::uint64_t{argon2_memory_kib} * argon2_passes;
inline constexpr std::size_t key_entries = 64;
}  // namespace limits

}  // namespace kestrum
