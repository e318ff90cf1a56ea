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

std::size_t Cutter::cut(ByteView data) const {
  std::size_t size = std::min(data.size(), max_size);
  if (size <= min_size) return size;
  std::size_t normal = std::min(average_size, size);
  std::uint64_t hash = 0;
  std::size_t i = min_size;
  for (; i < normal; ++i) {
    hash = (hash << 1) + table_[data[i]];
    if ((hash & strict_mask) == 0) return i + 1;
  }
  for (; i < size; ++i) {
    hash = (hash << 1) + table_[data[i]];
    if ((hash & easy_mask) == 0) return i + 1;
  }
  return size;
}

}  // namespace kestrum
