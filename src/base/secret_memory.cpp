#include "base/secret_memory.hpp"

#include <sodium.h>
#include <sys/mman.h>

#include <algorithm>
#include <array>
#include <bitset>
#include <memory>
#include <mutex>
#include <vector>

namespace kestrum {
namespace {

// Keys are small and many, and the system locks whole pages, of which an ordinary user has few: keys share
// them.
constexpr std::size_t unit = 32, units = 512, block_size = unit * units;

constexpr std::size_t units_for(std::size_t size) {
  return (size + unit - 1) / unit;
}

class Block {
 public:
  Block() {
    void* memory = mmap(nullptr, block_size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) throw std::bad_alloc();
    start_ = static_cast<std::uint8_t*>(memory);
    // Locked, and left out of dumps; the second holds where the first is refused.
    sodium_mlock(start_, block_size);
  }
  Block(const Block&) = delete;
  Block& operator=(const Block&) = delete;
  ~Block() = default;  // never: blocks last as long as the process

  // nullptr when there is no such room in it.
  std::uint8_t* take(std::size_t wanted) {
    for (std::size_t at = 0, run = 0; at < units; ++at) {
      run = used_[at] ? 0 : run + 1;
      if (run < wanted) continue;
      const std::size_t first = at + 1 - wanted;
      for (std::size_t i = first; i <= at; ++i) used_.set(i);
      return start_ + first * unit;
    }
    return nullptr;
  }
  bool holds(const std::uint8_t* memory) const { return memory >= start_ && memory < start_ + block_size; }
  void give_back(const std::uint8_t* memory, std::size_t count) {
    const std::size_t first = static_cast<std::size_t>(memory - start_) / unit;
    for (std::size_t i = first; i < first + count; ++i) used_.reset(i);
  }
  std::size_t in_use() const { return used_.count() * unit; }

 private:
  std::uint8_t* start_ = nullptr;
  std::bitset<units> used_;
};

class Pool {
 public:
  std::span<std::uint8_t> take(std::size_t size) {
    const std::size_t wanted = units_for(size);
    if (wanted > units) return {new std::uint8_t[size], size};
    const std::lock_guard lock(mutex_);
    for (const std::unique_ptr<Block>& block : blocks_) {
      if (std::uint8_t* memory = block->take(wanted)) return {memory, size};
    }
    blocks_.push_back(std::make_unique<Block>());
    return {blocks_.back()->take(wanted), size};
  }
  void give_back(std::span<std::uint8_t> bytes) {
    wipe(bytes.data(), bytes.size());
    const std::lock_guard lock(mutex_);
    for (const std::unique_ptr<Block>& block : blocks_) {
      if (block->holds(bytes.data())) return block->give_back(bytes.data(), units_for(bytes.size()));
    }
    delete[] bytes.data();
  }
  std::size_t in_use() {
    const std::lock_guard lock(mutex_);
    std::size_t bytes = 0;
    for (const std::unique_ptr<Block>& block : blocks_) bytes += block->in_use();
    return bytes;
  }

 private:
  std::mutex mutex_;
  std::vector<std::unique_ptr<Block>> blocks_;
};

// Never destroyed: keys of other static objects may go after it.
Pool& pool() {
  static Pool* const one = new Pool;
  return *one;
}

}  // namespace

void wipe(void* memory, std::size_t size) {
  sodium_memzero(memory, size);
}

SecretMemory::SecretMemory(std::size_t size) {
  if (size == 0) return;
  bytes_ = pool().take(size);
  wipe(bytes_.data(), bytes_.size());
}

SecretMemory::SecretMemory(ByteView content) {
  if (content.empty()) return;
  bytes_ = pool().take(content.size());
  std::copy(content.begin(), content.end(), bytes_.begin());
}

SecretMemory::~SecretMemory() {
  if (!bytes_.empty()) pool().give_back(bytes_);
}

bool SecretMemory::operator==(const SecretMemory& other) const {
  return bytes_.size() == other.bytes_.size() &&
         sodium_memcmp(bytes_.data(), other.bytes_.data(), bytes_.size()) == 0;
}

std::size_t secret_memory_in_use() {
  return pool().in_use();
}

}  // namespace kestrum
