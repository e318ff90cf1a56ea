// Chunks in memory, and entries of every sort, for tests of catalogs.
#pragma once

#include <map>
#include <random>

#include "archive/catalog_entry.hpp"
#include "archive/chunk_store.hpp"
#include "base/error.hpp"

namespace kestrum::test {

class MemoryChunks final : public ChunkSink, public ChunkSource {
 public:
  ChunkRef put(FrameKind, ByteView content) override {
    ChunkRef ref{naming.name(content), 1, content.size()};
    if (chunks.try_emplace(ref.name, content.begin(), content.end()).second) added += content.size();
    return ref;
  }
  Bytes fetch(const ChunkRef& ref) override {
    ++fetched;
    auto found = chunks.find(ref.name);
    if (found == chunks.end()) throw damage("lost");
    return found->second;
  }
  void sift(Sieve asked) override { sieve = std::move(asked); }
  bool passes(const ChunkRef& ref) override {
    auto found = chunks.find(ref.name);
    const bool passed = !sieve || found == chunks.end() || sieve(found->second);
    sifted_out += passed ? 0 : 1;
    return passed;
  }
  Sieve sieve;
  int sifted_out = 0;
  SecretKey key = SecretKey::random();
  Naming naming{key};
  std::map<ChunkName, Bytes> chunks;
  std::size_t added = 0;
  int fetched = 0;
};

// Of any type, with everything that an entry can have.
Entry make_entry(const std::string& path, std::mt19937& random);

}  // namespace kestrum::test
