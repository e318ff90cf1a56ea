#include "engine/restore_pace.hpp"

#include <algorithm>

namespace kestrum {

void RestorePace::add(double seconds, double bytes) {
  ++count_;
  time_ += seconds;
  size_ += bytes;
  time_size_ += seconds * bytes;
  size_size_ += bytes * bytes;
}

double RestorePace::seconds(double files, double bytes, const UnpackWork& unpacking, unsigned threads) const {
  if (count_ == 0) return 0;
  const double mean = size_ / count_;
  const double spread = size_size_ / count_ - mean * mean;
  // Neither can take more than all the time there was.
  const double slope = spread > 0 ? (time_size_ / count_ - time_ / count_ * mean) / spread : 0;
  const double of_byte = std::clamp(slope, 0.0, size_ > 0 ? time_ / size_ : 0);
  const double of_file = time_ / count_ - of_byte * mean;
  const double writing = of_file * files + of_byte * bytes;
  if (unpacking.bytes == 0) return writing;
  const double each = bytes / static_cast<double>(unpacking.bytes);
  const double drive = std::max(0.0, unpacking.seconds - unpacking.processor_seconds) * each;
  const double unpack = unpacking.processor_seconds * each;
  return std::max({writing, drive, (writing + unpack) / threads});
}

}  // namespace kestrum
