#include "archive/recovery_key.hpp"

#include <sodium.h>

#include <algorithm>
#include <cctype>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr std::string_view secret_tag = "kestrum-recovery-secret-1:";
constexpr std::string_view public_tag = "kestrum-recovery-public-1:";

Bytes check_of(std::string_view tag, ByteView key) {
  ByteWriter input;
  input.raw(as_bytes(tag));
  input.raw(key);
  Digest check = digest(input.view());
  return Bytes(check.begin(), check.begin() + 4);
}

std::string line_of(std::string_view tag, ByteView key) {
  std::string hex = to_hex(key);
  std::string groups;
  for (std::size_t at = 0; at < hex.size(); at += 8) groups += " " + hex.substr(at, 8);
  return std::string(tag) + groups + " " + to_hex(check_of(tag, key)) + "\n";
}

Bytes parse(std::string_view text, std::string_view tag, std::string_view other, const std::string& name) {
  std::size_t at = text.find(tag);
  if (at == std::string_view::npos) {
    bool wrong_part = text.find(other) != std::string_view::npos;
    throw Error(
        ErrorKind::key,
        printable(name) + (wrong_part ? " is the other part of a recovery key" : " holds no recovery key"),
        tag == secret_tag ? "name the file that 'kestrum recovery create' wrote, not the one ending in .pub"
                          : "name the file ending in .pub that 'kestrum recovery create' wrote");
  }
  std::string hex;
  for (char c : text.substr(at + tag.size())) {
    if (std::isspace(static_cast<unsigned char>(c)) == 0)
      hex += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  }
  std::optional<Bytes> bytes = from_hex(hex);
  bool good = bytes && bytes->size() == 36;
  if (good) {
    ByteView key = ByteView(*bytes).first(32);
    good = std::ranges::equal(check_of(tag, key), ByteView(*bytes).last(4));
  }
  if (!good)
    throw Error(ErrorKind::key, "the recovery key in " + printable(name) + " is damaged or mistyped",
                "compare it with your other copy: nine groups of eight digits and letters from a to f");
  bytes->resize(32);
  return *bytes;
}

}  // namespace

RecoveryKey make_recovery_key() {
  RecoveryKey key;
  key.secret = SecretKey::random();
  if (crypto_scalarmult_base(key.open.data(), key.secret.view().data()) != 0)
    throw Error(ErrorKind::failed, "the cryptographic library failed at making a key");
  return key;
}

std::string recovery_secret_text(const RecoveryKey& key) {
  return "# Secret part of a Kestrum recovery key. It opens every archive set that was made with its public "
         "part.\n"
         "# Keep it, and a copy on paper, away from the machines that are saved.\n" +
         line_of(secret_tag, key.secret.view());
}

std::string recovery_public_text(const RecoveryPublic& key) {
  return "# Public part of a Kestrum recovery key. It opens nothing; name it in a job as [protect] "
         "recovery-key.\n" +
         line_of(public_tag, key);
}

std::vector<std::string> recovery_groups(const RecoveryKey& key) {
  const std::string line = line_of(secret_tag, key.secret.view());
  return split(trim(line.substr(secret_tag.size())), ' ');
}

RecoveryKey parse_recovery_groups(std::string_view text) {
  return parse_recovery_secret(std::string(secret_tag) + std::string(text), "what was typed");
}

RecoveryKey parse_recovery_secret(std::string_view text, const std::string& name) {
  RecoveryKey key;
  key.secret = SecretKey(parse(text, secret_tag, public_tag, name));
  if (crypto_scalarmult_base(key.open.data(), key.secret.view().data()) != 0)
    throw Error(ErrorKind::failed, "the cryptographic library failed at reading a key");
  return key;
}

RecoveryPublic parse_recovery_public(std::string_view text, const std::string& name) {
  Bytes bytes = parse(text, public_tag, secret_tag, name);
  RecoveryPublic key;
  std::copy(bytes.begin(), bytes.end(), key.begin());
  return key;
}

Bytes seal_for(const RecoveryPublic& key, ByteView plain) {
  Bytes box(plain.size() + crypto_box_SEALBYTES);
  if (sodium_init() < 0 || crypto_box_seal(box.data(), plain.data(), plain.size(), key.data()) != 0)
    throw Error(ErrorKind::key, "the recovery key's public part is no key",
                "make a new one: kestrum recovery create");
  return box;
}

std::optional<Bytes> open_sealed(const RecoveryKey& key, ByteView box) {
  if (box.size() < crypto_box_SEALBYTES) return std::nullopt;
  Bytes plain(box.size() - crypto_box_SEALBYTES);
  if (crypto_box_seal_open(plain.data(), box.data(), box.size(), key.open.data(), key.secret.view().data()) !=
      0)
    return std::nullopt;
  return plain;
}

}  // namespace kestrum
