// Recovery keys: a second way into archive sets, kept by the technician. X25519 sealed boxes (libsodium's
// crypto_box_seal); docs/FORMAT.md sections 3 and 10.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "archive/crypto.hpp"

namespace kestrum {

using RecoveryPublic = std::array<std::uint8_t, 32>;

struct RecoveryKey {
  SecretKey secret;
  RecoveryPublic open{};  // the public part
};
RecoveryKey make_recovery_key();

// The two files: a comment for people and one line with the key and a check of four bytes.
std::string recovery_secret_text(const RecoveryKey& key);
std::string recovery_public_text(const RecoveryPublic& key);
// What stands in the secret line: nine groups of eight digits and letters from a to f, the last a check.
std::vector<std::string> recovery_groups(const RecoveryKey& key);
inline constexpr std::size_t recovery_group_count = 9, recovery_group_size = 8;
// As typed from paper, the nine groups alone. Throws Error of kind key.
RecoveryKey parse_recovery_groups(std::string_view text);
// Blanks and line ends do not matter, so that a key can be typed from paper. `name` is for messages; throws
// Error of kind key: no such key in it, mistyped, or the other part.
RecoveryKey parse_recovery_secret(std::string_view text, const std::string& name);
RecoveryPublic parse_recovery_public(std::string_view text, const std::string& name);

// 80 bytes for a key of 32.
Bytes seal_for(const RecoveryPublic& key, ByteView plain);
// Nothing when it is not for this key.
std::optional<Bytes> open_sealed(const RecoveryKey& key, ByteView box);

}  // namespace kestrum
