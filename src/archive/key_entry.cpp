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
static Bytes derivation_name(const Bytes& salt, Argon2Cost cost) {
  ByteWriter name;
  name.raw(salt);
  name.u32(cost.memory_kib);
  name.u32(cost.passes);
  return name.take();
}

static void write_way(const KeyEntry& entry, ByteWriter& name) {
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

bool same_entry(const KeyEntry& a, const KeyEntry& b) {
  ByteWriter one, other;
  write_way(a, one);
  write_way(b, other);
  return one.take() == other.take();
}

std::vector<RecoveryPublic> recovery_parts(const std::vector<KeyEntry>& entries) {
  std::vector<RecoveryPublic> parts;
  for (const KeyEntry& entry : entries) {
    RecoveryPublic part{};
    if (entry.type != KeyEntryType::recovery || entry.public_key.size() != part.size()) continue;
    std::copy(entry.public_key.begin(), entry.public_key.end(), part.begin());
    parts.push_back(part);
  }
  return parts;
}

static Bytes lock_name(const std::vector<KeyEntry>& entries, const Id& chain) {
  ByteWriter name;
  name.raw(chain);
  for (const KeyEntry& entry : entries) write_way(entry, name);
  return name.take();
}

static void check_cost(const KeyEntry& entry) {
  if (entry.cost.memory_kib > limits::argon2_memory_kib || entry.cost.passes > limits::argon2_passes)
    throw damage("a key entry asks for more memory or passes than a reader allows");
}

static std::optional<SecretKey> as_key(std::optional<Bytes> bytes) {
  if (!bytes || bytes->size() != SecretKey::size) return std::nullopt;
  SecretKey key(*bytes);
  wipe(bytes->data(), bytes->size());
  return key;
}

void KeyRing::add(const std::vector<KeyEntry>& entries, const Id& chain, const SecretKey& master) {
  KeyEntryType by = keeps_others_out(entries) ? KeyEntryType::passphrase : KeyEntryType::clear;
  known_.insert_or_assign(lock_name(entries, chain), Opened{master, by});
}

const SecretKey& KeyRing::derived(const SecretText& passphrase, const Bytes& salt, Argon2Cost cost) {
  const std::size_t place =
      static_cast<std::size_t>(std::find(tried_.begin(), tried_.end(), passphrase) - tried_.begin());
  if (place == tried_.size()) tried_.push_back(passphrase);
  std::pair name(place, derivation_name(salt, cost));
  if (auto known = derived_.find(name); known != derived_.end()) return known->second;
  const std::uint64_t work = std::uint64_t{cost.memory_kib} * cost.passes;
  if (spent_ + work > limits::argon2_total)
    throw damage("the key entries ask for more work than one command gives to finding a key");
  spent_ += work;
  return derived_.emplace(std::move(name), key_from_passphrase(passphrase.view(), salt, cost)).first->second;
}

KeyEntry KeyRing::passphrase_entry(const SecretKey& master, const Id& chain, const SecretText& passphrase,
                                   Argon2Cost cost, const std::vector<KeyEntry>& like) {
  const auto place = std::find(tried_.begin(), tried_.end(), passphrase) - tried_.begin();
  for (const KeyEntry& entry : like) {
    if (entry.type != KeyEntryType::passphrase || entry.cost != cost || entry.salt.size() != 16) continue;
    auto known = derived_.find({static_cast<std::size_t>(place), derivation_name(entry.salt, cost)});
    if (known != derived_.end()) return make_passphrase_entry(master, chain, known->second, entry.salt, cost);
  }
  const Bytes salt = random_bytes(16);
  return make_passphrase_entry(master, chain, derived(passphrase, salt, cost), salt, cost);
}

const std::optional<SecretText>& KeyRing::passphrase() {
  if (!asked_) {
    asked_ = true;
    try {
      passphrase_ = ask_ ? ask_() : std::nullopt;
    } catch (const Error& error) {
      trouble_ = error;  // the same to whoever asks again: it is not as if none had been given
    }
  }
  if (trouble_) throw *trouble_;
  return passphrase_;
}

std::optional<SecretKey> KeyRing::open_with(const SecretText& passphrase, const KeyEntry& entry,
                                            const Id& chain) {
  if (entry.type != KeyEntryType::passphrase) return std::nullopt;
  check_cost(entry);
  const SecretKey& from = derived(passphrase, entry.salt, entry.cost);
  return as_key(Aead(wrapping_key(from, chain, entry.salt)).open(0, chain, entry.box));
}

std::optional<KeyRing::Opened> KeyRing::try_passphrase(const SecretText& passphrase,
                                                       const std::vector<KeyEntry>& entries,
                                                       const Id& chain) {
  for (const KeyEntry& entry : entries) {
    if (std::optional<SecretKey> master = open_with(passphrase, entry, chain))
      return Opened{std::move(*master), entry.type};
  }
  return std::nullopt;
}

std::vector<KeyRing::Opened> KeyRing::opened_of(const Id& chain) const {
  std::vector<Opened> out;
  const auto [first, last] = opened_.equal_range(chain);
  for (auto one = first; one != last; ++one) out.push_back(one->second);
  return out;
}

void KeyRing::take(const std::vector<KeyEntry>& entries, const Id& chain, const Opened& opened) {
  known_.insert_or_assign(lock_name(entries, chain), opened);
}

KeyRing::Opened KeyRing::open(const std::vector<KeyEntry>& entries, const Id& chain) {
  const Bytes lock = lock_name(entries, chain);
  if (auto known = known_.find(lock); known != known_.end()) return known->second;
  auto opened = [&](Opened found) {
    const std::vector<Opened> before = opened_of(chain);
    const bool news = std::none_of(before.begin(), before.end(), [&](const Opened& one) {
      return one.master == found.master && one.by == found.by;
    });
    if (news) opened_.emplace(chain, found);
    return known_.emplace(lock, std::move(found)).first->second;
  };
  for (const KeyEntry& entry : entries) {
    if (entry.type == KeyEntryType::clear) return opened({entry.clear_key, entry.type});
  }
  for (const KeyEntry& entry : entries) {
    if (entry.type != KeyEntryType::recovery || !recovery_) continue;
    if (std::optional<SecretKey> master = as_key(open_sealed(*recovery_, entry.box)))
      return opened({std::move(*master), entry.type});
  }
  bool any = false;
  for (const KeyEntry& entry : entries) {
    if (entry.type != KeyEntryType::passphrase) continue;
    check_cost(entry);
    any = true;
  }
  if (any && passphrase()) {
    if (std::optional<Opened> found = try_passphrase(*passphrase_, entries, chain))
      return opened(std::move(*found));
  }
  for (const SecretText& other : others_) {
    if (std::optional<Opened> found = try_passphrase(other, entries, chain)) return opened(std::move(*found));
  }
  refuse(entries);
}

void KeyRing::refuse(const std::vector<KeyEntry>& entries) {
  if (recovery_ && !passphrase_) {
    throw Error(ErrorKind::key, "this recovery key does not open these archive sets",
                "they were made before it was added to the job, or with another one; give the passphrase "
                "instead. To add it to what is there: kestrum recovery add JOB FILE.pub");
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
