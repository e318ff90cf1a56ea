// Large buffers used again: taking one from the system costs a page fault for every 4 KiB.
#pragma once

#include <mutex>
#include <vector>

#include "base/bytes.hpp"

namespace kestrum {

// Any number of threads.
class BufferPool {
 public:
  explicit BufferPool(std::size_t most) : most_(most) {}
  // Whatever size and content it had, or empty. (Growing a vector fills it with zeros first: one that has the
  // size already is spared that.)
  Bytes take() {
    std::lock_guard lock(mutex_);
    if (free_.empty()) return {};
    Bytes buffer = std::move(free_.back());
    free_.pop_back();
    return buffer;
  }
  void give(Bytes buffer) {
    std::lock_guard lock(mutex_);
    if (free_.size() < most_) free_.push_back(std::move(buffer));
  }

 private:
  std::size_t most_;
  std::mutex mutex_;
  std::vector<Bytes> free_;
};

}  // namespace kestrum
