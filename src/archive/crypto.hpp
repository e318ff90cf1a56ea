// Keys, digests and authenticated encryption: the primitives of docs/FORMAT.md sections 1 and 3, behind one
// wrapper.
#pragma once

#include <array>
#include <memory>
#include <string_view>

#include "base/bytes.hpp"
#include "base/random.hpp"
#include "base/secret_memory.hpp"

namespace kestrum {

using Digest = std::array<std::uint8_t, 32>;

// 32 secret bytes; zeros at first.
class SecretKey {
 public:
  static constexpr std::size_t size = 32;
  SecretKey() = default;
  explicit SecretKey(ByteView bytes);  // exactly 32, else Error of kind damage
  static SecretKey random();
  ByteView view() const;
  std::span<std::uint8_t> writable();
  bool operator==(const SecretKey& other) const;  // in constant time

 private:
  SecretMemory bytes_;  // empty: zeros
};

// BLAKE2b-256, RFC 7693.
Digest digest(ByteView data);
Digest keyed_digest(const SecretKey& key, ByteView data);

class DigestStream {
 public:
  DigestStream();
  ~DigestStream();
  void update(ByteView data);
  Digest finish();
  // Of what came so far; more may follow.
  Digest so_far() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

// docs/FORMAT.md section 1. `purpose` is ASCII.
SecretKey derive(const SecretKey& key, std::string_view purpose, ByteView context);

// AES-256-GCM with one key; nonces are ordinals and must never repeat under one key. One thread may seal, any
// number may open.
class Aead {
 public:
  static constexpr std::size_t tag_size = 16;
  explicit Aead(const SecretKey& key);
  ~Aead();
  Aead(Aead&&) noexcept;
  Aead& operator=(Aead&&) noexcept;
  // Appends ciphertext and tag to `out`.
  void seal(std::uint64_t ordinal, ByteView associated, ByteView plain, Bytes& out) const;
  // The same into `out`, which has exactly the size of both.
  void seal(std::uint64_t ordinal, ByteView associated, ByteView plain, std::span<std::uint8_t> out) const;
  // `box` is ciphertext and tag. Nothing when it does not authenticate: no byte of plaintext gets out then.
  std::optional<Bytes> open(std::uint64_t ordinal, ByteView associated, ByteView box) const;
  // `plain` is replaced, its memory used again; false and empty instead of nothing.
  bool open(std::uint64_t ordinal, ByteView associated, ByteView box, Bytes& plain) const;

 private:
  struct Context;
  SecretKey key_;
  std::unique_ptr<Context> context_;
};

// Argon2id (RFC 9106), one lane.
struct Argon2Cost {
  std::uint32_t memory_kib = 65536;
  std::uint32_t passes = 2;
  bool operator==(const Argon2Cost&) const = default;
};
SecretKey key_from_passphrase(std::string_view passphrase, ByteView salt, Argon2Cost cost);

template <typename A>
Bytes to_bytes(const A& array) {
  return Bytes(array.begin(), array.end());
}

}  // namespace kestrum
