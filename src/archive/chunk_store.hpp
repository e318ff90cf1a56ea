// The two small interfaces between what is listed and where it lies.
#pragma once

#include "archive/frame.hpp"

namespace kestrum {

// Takes chunks; tells under which name and in which set they can be had.
class ChunkSink {
 public:
  virtual ~ChunkSink() = default;
  virtual ChunkRef put(FrameKind kind, ByteView content) = 0;
};

// Gives chunks back, authenticated. Throws Error of kind damage when that cannot be done.
class ChunkSource {
 public:
  virtual ~ChunkSource() = default;
  virtual Bytes fetch(const ChunkRef& ref) = 0;
};

}  // namespace kestrum
