// Compression behind one wrapper. One Compressor a thread: contexts are reused, not shared.
#pragma once

#include <memory>

#include "base/bytes.hpp"

namespace kestrum {

enum class Codec : std::uint8_t { stored = 0, zstd = 1 };

class Compressor {
 public:
  Compressor();
  ~Compressor();
  // Appends `content`, compressed at `level` (1 to 19), to `out` and returns zstd; or as it is and returns
  // stored, when a probe of a few samples or the result itself says that it will not shrink.
  Codec compress(ByteView content, int level, Bytes& out);

 private:
  bool worth_it(ByteView content);
  struct Context;
  std::unique_ptr<Context> context_;
};

class Decompressor {
 public:
  Decompressor();
  ~Decompressor();
  // `size`: the content's exact length, checked against its limit by the caller. Throws Error of kind damage.
  // `memory` is used for the result.
  Bytes decompress(Codec codec, ByteView packed, std::size_t size, Bytes memory = {});

 private:
  struct Context;
  std::unique_ptr<Context> context_;
};

}  // namespace kestrum
