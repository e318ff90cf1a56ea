// How many threads unpack frames before they are asked for.
#pragma once

#include <algorithm>
#include <thread>

namespace kestrum {

// 1 to 4.
inline unsigned read_ahead_threads() {
  return std::clamp(std::thread::hardware_concurrency(), 1u, 4u);
}

}  // namespace kestrum
