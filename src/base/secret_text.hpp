// Text that is nobody else's business: wiped from memory when it goes.
#pragma once

#include <string_view>

#include "base/bytes.hpp"

namespace kestrum {

class SecretText {
 public:
  SecretText() = default;
  explicit SecretText(std::string_view text) : bytes_(text.begin(), text.end()) {}
  // Takes the text over and wipes where it came from.
  static SecretText take(std::string& text);
  static SecretText take(Bytes& bytes);
  SecretText(const SecretText&) = default;
  SecretText(SecretText&& other) noexcept : bytes_(std::exchange(other.bytes_, {})) {}
  SecretText& operator=(SecretText other) noexcept {
    std::swap(bytes_, other.bytes_);
    return *this;
  }
  ~SecretText();

  std::string_view view() const { return as_text(bytes_); }
  bool empty() const { return bytes_.empty(); }
  // In constant time for texts of one length.
  bool operator==(const SecretText& other) const;

 private:
  Bytes bytes_;
};

// Overwrites memory in a way that no compiler leaves out.
void wipe(void* memory, std::size_t size);

}  // namespace kestrum
