// Where a passphrase comes from: a file that only its owner reads, or the person at the terminal.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "archive/recovery_key.hpp"
#include "base/secret_text.hpp"

namespace kestrum {

// Asks the person for `what`, without showing what is typed; nothing when there is no terminal.
using AskPassphrase = std::function<std::optional<SecretText>(const std::string& what)>;

// `source` is "file:/path" or "ask". Throws Error of kind key when the file cannot be read, is empty, or may
// be read by others. One line end at the end of the file is dropped.
std::optional<SecretText> get_passphrase(const std::string& source, const std::string& what,
                                         const AskPassphrase& ask);

// The first line of the file that `source`, "file:/path", names. `what` it is, for messages: "password".
// Throws as get_passphrase().
SecretText secret_line(const std::string& source, const std::string& what);

// What speaks against that passphrase, in one sentence: it is short. Empty when nothing does.
std::string weakness_of(const SecretText& passphrase);

// Makes a recovery key: its secret part in `path`, for its owner only, its public part in `path`.pub. Never
// over files that are there (Error of kind usage); both or none.
RecoveryKey write_recovery_files(const std::string& path);
// The secret part of a recovery key, from a file that only its owner reads; throws Error of kind key.
RecoveryKey read_recovery_secret(const std::string& path);
// The public part; throws Error of kind key.
RecoveryPublic read_recovery_public(const std::string& path);

}  // namespace kestrum
