// The one source of random bytes.
#pragma once

#include <array>
#include <cstring>

#include "base/bytes.hpp"

namespace kestrum {

// From the kernel's generator; fit for keys.
void fill_random(std::span<std::uint8_t> out);
Bytes random_bytes(std::size_t size);
std::uint64_t random_number();

// 128 random bits that name a destination, a job, a chain or a set.
using Id = std::array<std::uint8_t, 16>;
Id random_id();
// The same as ==, which calls a function where two comparisons do.
inline bool same_id(const Id& a, const Id& b) {
  std::uint64_t x[2], y[2];
  std::memcpy(x, a.data(), sizeof x);
  std::memcpy(y, b.data(), sizeof y);
  return x[0] == y[0] && x[1] == y[1];
}

}  // namespace kestrum
