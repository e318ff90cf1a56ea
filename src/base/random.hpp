// The one source of random bytes.
#pragma once

#include <array>

#include "base/bytes.hpp"

namespace kestrum {

// From the kernel's generator; fit for keys.
void fill_random(std::span<std::uint8_t> out);
Bytes random_bytes(std::size_t size);

// 128 random bits that name a destination, a job, a chain or a set.
using Id = std::array<std::uint8_t, 16>;
Id random_id();

}  // namespace kestrum
