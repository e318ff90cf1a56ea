#include "archive/key_entry.hpp"

#include <algorithm>

#include "archive/chunk_types.hpp"
#include "base/error.hpp"

namespace kestrum {
namespace {

SecretKey wrapping_key(const SecretKey& from_passphrase, const Id& chain, ByteView salt) {
  Bytes context = to_bytes(chain);
  context.insert(context.end(), salt.begin(), salt.end());
  return derive(from_passphrase, "wrap", context);
}

}  // namespace

KeyEntry make_passphrase_entry(const SecretKey& master, const Id& chain, const SecretKey& derived,
                               const Bytes& salt, Argon2Cost cost) {
  KeyEntry entry;
  entry.type = KeyEntryType::passphrase;
  fill_random(entry.id);
  entry.cost = cost;
  entry.salt = salt;
  Aead(wrapping_key(derived, chain, entry.salt)).seal(0, chain, master.view(), entry.box);
  return entry;
}

KeyEntry make_passphrase_entry(const SecretKey& master, const Id& chain, std::string_view passphrase,
                               Argon2Cost cost) {
  Bytes salt = random_bytes(16);
  return make_passphrase_entry(master, chain, key_from_passphrase(passphrase, salt, cost), salt, cost);
}

KeyEntry make_recovery_entry(const SecretKey& master, const RecoveryPublic& key) {
  KeyEntry entry;
  entry.type = KeyEntryType::recovery;
  fill_random(entry.id);
  entry.public_key = to_bytes(key);
  entry.box = seal_for(key, master.view());
  return entry;
}

KeyEntry make_clear_entry(const SecretKey& master) {
  KeyEntry entry;
  fill_random(entry.id);
  entry.clear_key = master;
  return entry;
}

// One passphrase may stand under the same salt with another cost.
static Bytes derivation_name(const KeyEntry& entry) {
  ByteWriter name;
  name.raw(entry.salt);
  name.u32(entry.cost.memory_kib);
  name.u32(entry.cost.passes);
  return name.take();
}

static Bytes lock_name(const std::vector<KeyEntry>& entries, const Id& chain) {
  ByteWriter name;
  name.raw(chain);
  for (const KeyEntry& entry : entries) {
    name.u8(static_cast<std::uint8_t>(entry.type));
    name.raw(entry.id);
    name.u32(entry.cost.memory_kib);
    name.u32(entry.cost.passes);
    for (ByteView part : {ByteView(entry.salt), ByteView(entry.public_key), ByteView(entry.box),
                          ByteView(entry.clear_key.view())}) {
      name.varint(part.size());
      name.raw(part);
    }
  }
  return name.take();
}

void KeyRing::add(const std::vector<KeyEntry>& entries, const Id& chain, const SecretKey& master) {
  KeyEntryType by = keeps_others_out(entries) ? KeyEntryType::passphrase : KeyEntryType::clear;
  known_.insert_or_assign(lock_name(entries, chain), Opened{master, by});
}

KeyEntry KeyRing::passphrase_entry(const SecretKey& master, const Id& chain, const SecretText& passphrase,
                                   Argon2Cost cost, const std::vector<KeyEntry>& like) {
  for (const KeyEntry& entry : like) {
    if (entry.type != KeyEntryType::passphrase || entry.cost != cost || entry.salt.size() != 16) continue;
    auto derived = derived_.find(derivation_name(entry));
    if (derived != derived_.end() && passphrase_ == passphrase)
      return make_passphrase_entry(master, chain, derived->second, entry.salt, cost);
  }
  return make_passphrase_entry(master, chain, passphrase.view(), cost);
}

const std::optional<SecretText>& KeyRing::passphrase() {
  if (!asked_) {
    asked_ = true;
    passphrase_ = ask_ ? ask_() : std::nullopt;
  }
  return passphrase_;
}

KeyRing::Opened KeyRing::open(const std::vector<KeyEntry>& entries, const Id& chain) {
  const Bytes lock = lock_name(entries, chain);
  if (auto known = known_.find(lock); known != known_.end()) return known->second;
  auto opened = [&](const SecretKey& master, KeyEntryType by) {
    return known_.emplace(lock, Opened{master, by}).first->second;
  };
  for (const KeyEntry& entry : entries) {
    if (entry.type == KeyEntryType::clear) return opened(entry.clear_key, entry.type);
  }
  for (const KeyEntry& entry : entries) {
    if (entry.type != KeyEntryType::recovery || !recovery_) continue;
    std::optional<Bytes> master = open_sealed(*recovery_, entry.box);
    if (master && master->size() == SecretKey::size) return opened(SecretKey(*master), entry.type);
  }
  for (const KeyEntry& entry : entries) {
    if (entry.type != KeyEntryType::passphrase) continue;
    if (entry.cost.memory_kib > limits::argon2_memory_kib || entry.cost.passes > limits::argon2_passes) {
      throw damage("a key entry asks for more memory or passes than a reader allows");
    }
    if (!passphrase()) break;
    Bytes name = derivation_name(entry);
    auto derived = derived_.find(name);
    if (derived == derived_.end()) {
      std::uint64_t cost = std::uint64_t{entry.cost.memory_kib} * entry.cost.passes;
      if (spent_ + cost > limits::argon2_total)
        throw damage("the key entries ask for more work than one command gives to finding a key");
      spent_ += cost;
      SecretKey key = key_from_passphrase(passphrase_->view(), entry.salt, entry.cost);
      derived = derived_.emplace(std::move(name), key).first;
    }
    std::optional<Bytes> master =
        Aead(wrapping_key(derived->second, chain, entry.salt)).open(0, chain, entry.box);
    if (master) return opened(SecretKey(*master), entry.type);
  }
  if (recovery_ && !passphrase_) {
    throw Error(
        ErrorKind::key, "this recovery key does not open these archive sets",
        "they were made before it was added to the job, or with another one; give the passphrase instead");
  }
  if (!passphrase_) {
    throw Error(ErrorKind::key, "these archive sets are encrypted and no passphrase was given",
                "give --passphrase file:PATH, or run the command on a terminal and type it");
  }
  const bool recovery_entry = std::any_of(entries.begin(), entries.end(), [](const KeyEntry& entry) {
    return entry.type == KeyEntryType::recovery;
  });
  throw Error(
      ErrorKind::key, "the passphrase does not open these archive sets",
      recovery_entry
          ? "check the passphrase, or give the recovery key: --recovery-key FILE, or ask to type it in"
          : "check the passphrase; nobody can open the sets without it");
}

bool keeps_others_out(const std::vector<KeyEntry>& entries) {
  return std::none_of(entries.begin(), entries.end(),
                      [](const KeyEntry& entry) { return entry.type == KeyEntryType::clear; });
}

}  // namespace kestrum
