#include "base/secret_text.hpp"

#include <sodium.h>

namespace kestrum {

void wipe(void* memory, std::size_t size) {
  sodium_memzero(memory, size);
}

SecretText SecretText::take(std::string& text) {
  SecretText out(text);
  wipe(text.data(), text.size());
  text.clear();
  return out;
}

SecretText SecretText::take(Bytes& bytes) {
  SecretText out(as_text(bytes));
  wipe(bytes.data(), bytes.size());
  bytes.clear();
  return out;
}

SecretText::~SecretText() {
  wipe(bytes_.data(), bytes_.size());
}

bool SecretText::operator==(const SecretText& other) const {
  return bytes_.size() == other.bytes_.size() &&
         sodium_memcmp(bytes_.data(), other.bytes_.data(), bytes_.size()) == 0;
}

}  // namespace kestrum
