// Bytes that do not compress, the same each time.
#pragma once

#include <cstdint>
#include <string>

namespace kestrum::test {

inline std::string noise(std::size_t size) {
  std::string bytes(size, '\0');
  std::uint64_t state = 1;
  for (char& c : bytes) {
    state = state * 6364136223846793005u + 1442695040888963407u;
    c = static_cast<char>(state >> 56);
  }
  return bytes;
}

}  // namespace kestrum::test
