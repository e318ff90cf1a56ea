#include "archive/sha256.hpp"

#include <openssl/evp.h>

#include <algorithm>
#include <array>
#include <stdexcept>

namespace kestrum {

struct Sha256::State {
  State() : context(EVP_MD_CTX_new()) {
    check(context != nullptr && EVP_DigestInit_ex(context, EVP_sha256(), nullptr) == 1);
  }
  ~State() { EVP_MD_CTX_free(context); }
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  static void check(bool done) {
    if (!done) throw std::runtime_error("the cryptographic library refuses SHA-256");
  }
  EVP_MD_CTX* context;
};

Sha256::Sha256() : state_(std::make_unique<State>()) {}
Sha256::~Sha256() = default;

void Sha256::update(ByteView data) {
  State::check(EVP_DigestUpdate(state_->context, data.data(), data.size()) == 1);
}

void Sha256::zeros(std::uint64_t length) {
  static constexpr std::array<std::uint8_t, 65536> nothing{};
  for (std::uint64_t left = length; left > 0;) {
    const std::uint64_t step = std::min<std::uint64_t>(left, nothing.size());
    update(ByteView(nothing).first(static_cast<std::size_t>(step)));
    left -= step;
  }
}

std::string Sha256::finish() {
  std::array<std::uint8_t, 32> out{};
  State::check(EVP_DigestFinal_ex(state_->context, out.data(), nullptr) == 1);
  return to_hex(out);
}

}  // namespace kestrum
