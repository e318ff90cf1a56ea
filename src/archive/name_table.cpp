#include "archive/name_table.hpp"

#include <algorithm>

namespace kestrum {

NameTable::Slot NameTable::key_of(const ChunkName& name) {
  Slot key;
  std::memcpy(key.prefix.data(), name.bytes.data() + 1, sizeof key.prefix);
  return key;
}

// Maps 32 bits of the name onto any number of slots, so that shards need not grow by doubling.
std::size_t NameTable::start(const Slot& key, std::size_t slots) {
  return static_cast<std::size_t>((std::uint64_t{key.prefix[0]} * slots) >> 32);
}

std::size_t NameTable::probe(const std::vector<Slot>& slots, const Slot& key) {
  std::size_t at = start(key, slots.size());
  while (slots[at].value_plus_one != 0 && !slots[at].is(key)) {
    if (++at == slots.size()) at = 0;
  }
  return at;
}

void NameTable::grow(Shard& shard, std::size_t slots) {
  std::vector<Slot> bigger(slots);
  for (const Slot& slot : shard.slots) {
    if (slot.value_plus_one != 0) bigger[probe(bigger, slot)] = slot;
  }
  shard.slots = std::move(bigger);
}

// Names are random: no shard has many more than its share, and one that does grows as usual.
void NameTable::expect(std::size_t names) {
  constexpr std::size_t most_at_once = std::size_t{1} << 22;
  const std::size_t slots = std::min(names, most_at_once) / shards_.size() * 100 / 78;
  for (Shard& shard : shards_) {
    if (slots > shard.slots.size()) grow(shard, slots);
  }
}

void NameTable::put(const ChunkName& name, std::uint32_t value) {
  Shard& shard = shards_[name.bytes[0]];
  if ((shard.used + 1) * 100 > shard.slots.size() * 85)
    grow(shard, shard.slots.size() + shard.slots.size() / 5 + 8);
  Slot key = key_of(name);
  std::size_t at = probe(shard.slots, key);
  if (shard.slots[at].value_plus_one == 0) {
    ++shard.used;
    ++size_;
  }
  key.value_plus_one = value + 1;
  shard.slots[at] = key;
}

std::optional<std::uint32_t> NameTable::find(const ChunkName& name) const {
  const Shard& shard = shards_[name.bytes[0]];
  if (shard.slots.empty()) return std::nullopt;
  const Slot& slot = shard.slots[probe(shard.slots, key_of(name))];
  if (slot.value_plus_one == 0) return std::nullopt;
  return slot.value_plus_one - 1;
}

std::size_t NameTable::memory_bytes() const {
  std::size_t bytes = 0;
  for (const Shard& shard : shards_) bytes += shard.slots.size() * sizeof(Slot);
  return bytes;
}

}  // namespace kestrum
