// Text that is nobody else's business.
#pragma once

#include <string_view>

#include "base/secret_memory.hpp"

namespace kestrum {

class SecretText {
 public:
  SecretText() = default;
  explicit SecretText(std::string_view text) : memory_(as_bytes(text)) {}
  // Takes the text over and wipes where it came from.
  static SecretText take(std::string& text);
  static SecretText take(Bytes& bytes);

  std::string_view view() const { return as_text(memory_.view()); }
  bool empty() const { return memory_.empty(); }
  // In constant time for texts of one length.
  bool operator==(const SecretText&) const = default;

 private:
  SecretMemory memory_;
};

}  // namespace kestrum
