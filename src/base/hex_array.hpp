// Arrays of bytes from their hexadecimal form.
#pragma once

#include <algorithm>
#include <array>

#include "base/bytes.hpp"

namespace kestrum {

// Nothing unless it is hexadecimal and of that very length.
template <std::size_t N>
std::optional<std::array<std::uint8_t, N>> array_from_hex(std::string_view hex) {
  const std::optional<Bytes> bytes = from_hex(hex);
  if (!bytes || bytes->size() != N) return std::nullopt;
  std::array<std::uint8_t, N> out{};
  std::copy(bytes->begin(), bytes->end(), out.begin());
  return out;
}

}  // namespace kestrum
