// How long a full restore would take, by how long files of a sample took.
#pragma once

#include <cstdint>

#include "archive/frame_cache.hpp"

namespace kestrum {

// Each file has a cost, and so has each of its bytes; least squares tell them apart. What its bytes were
// unpacked for is reckoned by itself: a sample jumps from frame to frame, unpacks far more than it needs, and
// waits for it. In order nothing is unpacked in vain, and it is done ahead, beside the writing: what takes
// longest counts, which is one thread that writes, the drive that serves one after the other, or all
// processors together.
class RestorePace {
 public:
  // A file that came back: how long it took, without finding it in the list and waiting for frames, and its
  // bytes.
  void add(double seconds, double bytes);
  // Of so many files and bytes of content, in order. `unpacking`: what the sample took; `threads`: that
  // unpack ahead, of as many processors, at least 1. 0 as long as nothing was added.
  double seconds(double files, double bytes, const UnpackWork& unpacking, unsigned threads) const;

 private:
  double count_ = 0, time_ = 0, size_ = 0, time_size_ = 0, size_size_ = 0;
};

}  // namespace kestrum
