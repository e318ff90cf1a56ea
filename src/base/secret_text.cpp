#include "base/secret_text.hpp"

namespace kestrum {

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

}  // namespace kestrum
