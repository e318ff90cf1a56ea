// The two small interfaces between what is listed and where it lies.
#pragma once

#include <functional>

#include "archive/frame.hpp"

namespace kestrum {

// Takes chunks; tells under which name and in which set they can be had.
class ChunkSink {
 public:
  virtual ~ChunkSink() = default;
  virtual ChunkRef put(FrameKind kind, ByteView content) = 0;
};

// Says of a chunk's content whether it is worth a closer look. Any thread.
using Sieve = std::function<bool(ByteView content)>;

// Gives chunks back, authenticated. Throws Error of kind damage when that cannot be done.
class ChunkSource {
 public:
  virtual ~ChunkSource() = default;
  virtual Bytes fetch(const ChunkRef& ref) = 0;
  // It will be asked for soon: a hint, which never throws.
  virtual void expect(const ChunkRef&) {}
  // From the first chunk on, those of catalogs go through the sieve, as far as it can be on other threads.
  virtual void sift(Sieve) {}
  // What the sieve says; true where there is none. Throws as `fetch`.
  virtual bool passes(const ChunkRef&) { return true; }
};

}  // namespace kestrum
