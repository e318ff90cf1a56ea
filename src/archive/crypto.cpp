#include "archive/crypto.hpp"

#include <openssl/evp.h>
#include <sodium.h>

#include "base/error.hpp"

namespace kestrum {
namespace {

void ready() {
  static const bool done = sodium_init() >= 0;
  if (!done) throw Error(ErrorKind::failed, "the cryptographic library does not start");
}

[[noreturn]] void library_failed(const char* what) {
  throw Error(ErrorKind::failed, std::string("the cryptographic library failed at ") + what);
}

std::array<std::uint8_t, 12> nonce_of(std::uint64_t ordinal) {
  std::array<std::uint8_t, 12> nonce{};
  for (std::size_t i = 0; i < 8; ++i) nonce[i] = static_cast<std::uint8_t>(ordinal >> (8 * i));
  return nonce;
}

}  // namespace

SecretKey::SecretKey(ByteView bytes) {
  if (bytes.size() != size) throw damage("a key has the wrong size");
  bytes_ = SecretMemory(bytes);
}

SecretKey SecretKey::random() {
  SecretKey key;
  fill_random(key.writable());
  return key;
}

ByteView SecretKey::view() const {
  static constexpr std::array<std::uint8_t, size> zeros{};
  return bytes_.empty() ? ByteView(zeros) : bytes_.view();
}

std::span<std::uint8_t> SecretKey::writable() {
  if (bytes_.empty()) bytes_ = SecretMemory(size);
  return bytes_.writable();
}

bool SecretKey::operator==(const SecretKey& other) const {
  return sodium_memcmp(view().data(), other.view().data(), size) == 0;
}

Digest digest(ByteView data) {
  ready();
  Digest out;
  crypto_generichash(out.data(), out.size(), data.data(), data.size(), nullptr, 0);
  return out;
}

Digest keyed_digest(const SecretKey& key, ByteView data) {
  ready();
  Digest out;
  crypto_generichash(out.data(), out.size(), data.data(), data.size(), key.view().data(), SecretKey::size);
  return out;
}

struct DigestStream::State {
  crypto_generichash_state hash;
};

DigestStream::DigestStream() : state_(std::make_unique<State>()) {
  ready();
  crypto_generichash_init(&state_->hash, nullptr, 0, sizeof(Digest));
}
DigestStream::~DigestStream() = default;
void DigestStream::update(ByteView data) {
  crypto_generichash_update(&state_->hash, data.data(), data.size());
}
Digest DigestStream::finish() {
  Digest out;
  crypto_generichash_final(&state_->hash, out.data(), out.size());
  return out;
}

Digest DigestStream::so_far() const {
  crypto_generichash_state copy = state_->hash;
  Digest out;
  crypto_generichash_final(&copy, out.data(), out.size());
  return out;
}

SecretKey derive(const SecretKey& key, std::string_view purpose, ByteView context) {
  ByteWriter input;
  input.raw(as_bytes("kestrum.v1."));
  input.raw(as_bytes(purpose));
  input.u8(0);
  input.raw(context);
  Digest derived = keyed_digest(key, input.view());
  SecretKey out(derived);
  wipe(derived.data(), derived.size());
  return out;
}

struct Aead::Context {
  EVP_CIPHER_CTX* seal = EVP_CIPHER_CTX_new();
  EVP_CIPHER_CTX* open = EVP_CIPHER_CTX_new();  // holds the key; each opening uses a copy
  ~Context() {
    EVP_CIPHER_CTX_free(seal);
    EVP_CIPHER_CTX_free(open);
  }
};

Aead::Aead(const SecretKey& key) : key_(key), context_(std::make_unique<Context>()) {
  bool good =
      context_->seal != nullptr && context_->open != nullptr &&
      EVP_EncryptInit_ex(context_->seal, EVP_aes_256_gcm(), nullptr, key_.view().data(), nullptr) == 1 &&
      EVP_DecryptInit_ex(context_->open, EVP_aes_256_gcm(), nullptr, key_.view().data(), nullptr) == 1;
  if (!good) library_failed("setting a key");
}
Aead::~Aead() = default;
Aead::Aead(Aead&&) noexcept = default;
Aead& Aead::operator=(Aead&&) noexcept = default;

void Aead::seal(std::uint64_t ordinal, ByteView associated, ByteView plain, Bytes& out) const {
  std::size_t begin = out.size();
  out.resize(begin + plain.size() + tag_size);
  seal(ordinal, associated, plain, std::span(out).subspan(begin));
}

void Aead::seal(std::uint64_t ordinal, ByteView associated, ByteView plain,
                std::span<std::uint8_t> out) const {
  auto nonce = nonce_of(ordinal);
  int n = 0;
  EVP_CIPHER_CTX* context = context_->seal;
  bool good =
      out.size() == plain.size() + tag_size &&
      EVP_EncryptInit_ex(context, nullptr, nullptr, nullptr, nonce.data()) == 1 &&
      EVP_EncryptUpdate(context, nullptr, &n, associated.data(), static_cast<int>(associated.size())) == 1 &&
      EVP_EncryptUpdate(context, out.data(), &n, plain.data(), static_cast<int>(plain.size())) == 1 &&
      EVP_EncryptFinal_ex(context, out.data() + n, &n) == 1 &&
      EVP_CIPHER_CTX_ctrl(context, EVP_CTRL_GCM_GET_TAG, tag_size, out.data() + plain.size()) == 1;
  if (!good) library_failed("encrypting");
}

bool Aead::open(std::uint64_t ordinal, ByteView associated, ByteView box, Bytes& plain) const {
  if (box.size() < tag_size) {
    plain.clear();
    return false;
  }
  auto nonce = nonce_of(ordinal);
  plain.resize(box.size() - tag_size);
  Bytes tag(box.end() - tag_size, box.end());
  int n = 0;
  std::unique_ptr<EVP_CIPHER_CTX, void (*)(EVP_CIPHER_CTX*)> own(EVP_CIPHER_CTX_new(), EVP_CIPHER_CTX_free);
  EVP_CIPHER_CTX* context = own.get();
  bool good =
      context != nullptr && EVP_CIPHER_CTX_copy(context, context_->open) == 1 &&
      EVP_DecryptInit_ex(context, nullptr, nullptr, nullptr, nonce.data()) == 1 &&
      EVP_DecryptUpdate(context, nullptr, &n, associated.data(), static_cast<int>(associated.size())) == 1 &&
      EVP_DecryptUpdate(context, plain.data(), &n, box.data(), static_cast<int>(plain.size())) == 1 &&
      EVP_CIPHER_CTX_ctrl(context, EVP_CTRL_GCM_SET_TAG, tag_size, tag.data()) == 1;
  if (!good) library_failed("decrypting");
  if (EVP_DecryptFinal_ex(context, plain.data() + plain.size(), &n) == 1) return true;
  plain.clear();
  return false;
}

std::optional<Bytes> Aead::open(std::uint64_t ordinal, ByteView associated, ByteView box) const {
  Bytes plain;
  if (!open(ordinal, associated, box, plain)) return std::nullopt;
  return plain;
}

SecretKey key_from_passphrase(std::string_view passphrase, ByteView salt, Argon2Cost cost) {
  ready();
  if (salt.size() != crypto_pwhash_SALTBYTES) throw damage("a key entry has a salt of the wrong size");
  SecretKey key;
  int code = crypto_pwhash_argon2id(
      key.writable().data(), SecretKey::size, passphrase.data(), passphrase.size(), salt.data(), cost.passes,
      std::size_t{cost.memory_kib} * 1024, crypto_pwhash_argon2id_ALG_ARGON2ID13);
  if (code != 0) throw Error(ErrorKind::failed, "not enough memory to derive the key from the passphrase");
  return key;
}

}  // namespace kestrum
