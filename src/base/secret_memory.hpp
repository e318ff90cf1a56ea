// Memory for keys and passphrases: kept out of swap and of memory dumps as far as the system lets this
// process lock memory, and wiped when it is given back.
#pragma once

#include "base/bytes.hpp"

namespace kestrum {

// A fixed number of secret bytes. A copy takes memory of its own; what was moved from is empty. Where no more
// memory may be locked, it is ordinary memory, wiped all the same.
class SecretMemory {
 public:
  SecretMemory() = default;
  explicit SecretMemory(std::size_t size);  // zeros
  explicit SecretMemory(ByteView content);
  SecretMemory(const SecretMemory& other) : SecretMemory(other.view()) {}
  SecretMemory(SecretMemory&& other) noexcept : bytes_(std::exchange(other.bytes_, {})) {}
  SecretMemory& operator=(SecretMemory other) noexcept {
    std::swap(bytes_, other.bytes_);
    return *this;
  }
  ~SecretMemory();

  ByteView view() const { return bytes_; }
  std::span<std::uint8_t> writable() { return bytes_; }
  bool empty() const { return bytes_.empty(); }
  // In constant time for contents of one length.
  bool operator==(const SecretMemory& other) const;

 private:
  std::span<std::uint8_t> bytes_;
};

// Overwrites memory in a way that no compiler leaves out.
void wipe(void* memory, std::size_t size);

// Bytes of locked memory that are in use now, in whole units; for tests.
std::size_t secret_memory_in_use();

}  // namespace kestrum
