#include "archive/cutter.hpp"

#include <algorithm>

namespace kestrum {
namespace {

// Averages of 2^22 and 2^18 further bytes: together about 1 MiB with little spread. High bits, since those
// have seen the most input of a left-shifting hash.
constexpr std::uint64_t strict_mask = ((std::uint64_t{1} << 22) - 1) << 42;
constexpr std::uint64_t easy_mask = ((std::uint64_t{1} << 18) - 1) << 46;

}  // namespace

Cutter::Cutter(const SecretKey& naming_key) {
  SecretKey key = derive(naming_key, "cut", {});
  for (std::uint32_t i = 0; i < table_.size(); ++i) {
    ByteWriter input;
    input.u32(i);
    Digest value = keyed_digest(key, input.view());
    table_[i] = ByteReader(value).u64();
  }
}

// Advances the rolling hash over [from, to) and returns the first position after a byte where the masked bits
// are zero, or 0. Two bytes at a time: the second step does not wait for the first.
std::size_t Cutter::roll(ByteView data, std::size_t from, std::size_t to, std::uint64_t mask,
                         std::uint64_t& hash) const {
  std::uint64_t h = hash;
  std::size_t i = from;
  for (; i + 2 <= to; i += 2) {
    std::uint64_t first = table_[data[i]];
    std::uint64_t after_one = (h << 1) + first;
    h = (h << 2) + ((first << 1) + table_[data[i + 1]]);
    if ((after_one & mask) == 0) return i + 1;
    if ((h & mask) == 0) return i + 2;
  }
  for (; i < to; ++i) {
    h = (h << 1) + table_[data[i]];
    if ((h & mask) == 0) return i + 1;
  }
  hash = h;
  return 0;
}

std::size_t Cutter::cut(ByteView data) const {
  std::size_t size = std::min(data.size(), max_size);
  if (size <= min_size) return size;
  std::size_t normal = std::min(average_size, size);
  std::uint64_t hash = 0;
  if (std::size_t at = roll(data, min_size, normal, strict_mask, hash); at != 0) return at;
  if (std::size_t at = roll(data, normal, size, easy_mask, hash); at != 0) return at;
  return size;
}

}  // namespace kestrum
