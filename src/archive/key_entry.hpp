// Key entries, the ways into a chain's master key: docs/FORMAT.md section 3.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <vector>

#include "archive/crypto.hpp"
#include "archive/recovery_key.hpp"
#include "base/error.hpp"
#include "base/secret_text.hpp"

namespace kestrum {

enum class KeyEntryType { passphrase, recovery, clear };

struct KeyEntry {
  KeyEntryType type = KeyEntryType::clear;
  std::array<std::uint8_t, 8> id{};
  Argon2Cost cost;      // passphrase
  Bytes salt;           // passphrase, 16 bytes
  Bytes public_key;     // recovery, 32 bytes
  Bytes box;            // passphrase, recovery
  SecretKey clear_key;  // clear
};

KeyEntry make_passphrase_entry(const SecretKey& master, const Id& chain, std::string_view passphrase,
                               Argon2Cost cost);
// With a key derived already under that salt: entries of one job's chains may share a salt, each wraps under
// a key of its own chain.
KeyEntry make_passphrase_entry(const SecretKey& master, const Id& chain, const SecretKey& derived,
                               const Bytes& salt, Argon2Cost cost);
// Needs the public part only.
KeyEntry make_recovery_entry(const SecretKey& master, const RecoveryPublic& key);
KeyEntry make_clear_entry(const SecretKey& master);

// Gives the passphrase when it is needed for the first time, nothing when there is none.
using PassphraseSource = std::function<std::optional<SecretText>()>;

// Opens key entries, remembering what it found out: deriving a key is slow on purpose. One a command.
class KeyRing {
 public:
  explicit KeyRing(PassphraseSource passphrase) : ask_(std::move(passphrase)) {}
  // Another passphrase: tried where the first does not open. It proves as much.
  void also(SecretText passphrase) { others_.push_back(std::move(passphrase)); }
  // Tried before the passphrase is asked for. That it opens a set tells nothing about who wrote the set.
  void use_recovery_key(const RecoveryKey& key) { recovery_ = key; }
  const std::optional<RecoveryKey>& recovery_key() const { return recovery_; }
  // Throws Error of kind key when no entry opens; damage when an entry asks for more than a reader allows, or
  // all together ask for more than one command gives.
  SecretKey unlock(const std::vector<KeyEntry>& entries, const Id& chain) {
    return open(entries, chain).master;
  }
  // The same, with the way in: only a passphrase tells that whoever wrote the entries knew it too.
  struct Opened {
    SecretKey master;
    KeyEntryType by = KeyEntryType::clear;
  };
  Opened open(const std::vector<KeyEntry>& entries, const Id& chain);
  // What these very entries of that chain open, where it is known already (tests, a run of the same chain).
  void add(const std::vector<KeyEntry>& entries, const Id& chain, const SecretKey& master);
  // What has opened that chain so far, by whatever entries.
  std::vector<Opened> opened_of(const Id& chain) const;
  // These entries are of a seal that was written with that key, whatever they open themselves.
  void take(const std::vector<KeyEntry>& entries, const Id& chain, const Opened& opened);
  // What that passphrase opens by this very entry; nothing when it does not. Throws damage as `unlock` does.
  std::optional<SecretKey> open_with(const SecretText& passphrase, const KeyEntry& entry, const Id& chain);
  // An entry for a chain. Takes over the salt of one of `like` under which this passphrase's key is known, so
  // that no other need be derived now or later.
  KeyEntry passphrase_entry(const SecretKey& master, const Id& chain, const SecretText& passphrase,
                            Argon2Cost cost, const std::vector<KeyEntry>& like);
  // Asked for at the first call; nothing when there is none. Throws each time what asking threw.
  const std::optional<SecretText>& passphrase();
  // How often a key was derived from a passphrase: each time costs a tenth of a second.
  unsigned derivations() const { return static_cast<unsigned>(derived_.size()); }

 private:
  const SecretKey& derived(const SecretText& passphrase, const Bytes& salt, Argon2Cost cost);
  std::optional<Opened> try_passphrase(const SecretText& passphrase, const std::vector<KeyEntry>& entries,
                                       const Id& chain);
  [[noreturn]] void refuse(const std::vector<KeyEntry>& entries);
  PassphraseSource ask_;
  std::vector<SecretText> others_;
  std::optional<RecoveryKey> recovery_;
  bool asked_ = false;
  std::optional<SecretText> passphrase_;
  std::optional<Error> trouble_;  // why it could not be had
  // By chain and entries: whoever writes another seal for a known chain, with a way in of his own, gets
  // nothing from what the chain's own seals have opened, and the other way round.
  std::map<Bytes, Opened> known_;
  std::multimap<Id, Opened> opened_;                            // by chain, each once
  std::vector<SecretText> tried_;                               // passphrases that keys were derived from
  std::map<std::pair<std::size_t, Bytes>, SecretKey> derived_;  // by place in tried_, and salt and cost
  std::uint64_t spent_ = 0;                                     // on derivations, in KiB times passes
};

// The public parts of the recovery keys among them, in order.
std::vector<RecoveryPublic> recovery_parts(const std::vector<KeyEntry>& entries);

// Two that are one and the same way in, byte for byte.
bool same_entry(const KeyEntry& a, const KeyEntry& b);

// True when every entry in `entries` keeps others out.
bool keeps_others_out(const std::vector<KeyEntry>& entries);

}  // namespace kestrum
