// How large a set will be, from a sample: spots spread evenly over everything that would be read, compressed
// as a run does it.
#pragma once

#include <chrono>
#include <vector>

#include "archive/cutter.hpp"
#include "archive/set_writer.hpp"
#include "base/observer.hpp"
#include "base/run_control.hpp"
#include "base/tree_path.hpp"

namespace kestrum {

struct SizeEstimate {
  std::uint64_t content_bytes = 0;  // all that would be read
  std::uint64_t sampled_bytes = 0;
  std::uint64_t stored_bytes = 0;  // best guess, with index and list of files
  // Twice the standard error around it, and no less than what a sample of that size can overlook. Content
  // that several files have in common counts once in a set, which a sample does not see: then it may be less.
  std::uint64_t least = 0, most = 0;
  bool whole = false;  // everything was looked at, copies of the same content too; nothing is guessed
  std::chrono::nanoseconds spent{};  // on reading and compressing the sample, one thread
};

// A stretch of a file; a spot of the sample is one, or several small files that a run would compress
// together.
struct SamplePiece {
  TreePath path;
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
  bool whole_file = false;
};
using SampleSpot = std::vector<SamplePiece>;
// What a spot was found to take.
struct MeasuredSpot {
  std::uint64_t bytes = 0;
  std::uint64_t stored = 0;
};

// Offered every file that would be read, in the order of the walk. Keeps a bounded number of spots.
class SizeSampler {
 public:
  // A spot is half a frame. Smaller ones miss what neighbouring files have in common (1 MiB: 5 to 10 % too
  // much on trees of texts), larger ones see fewer places for the same reading.
  static constexpr std::uint64_t spot_bytes = 2u << 20;
  // Between so many and twice as many are looked at: 128 to 256 MiB, a few seconds. Where that is everything,
  // whole frames are compressed.
  static constexpr std::size_t spots = 64;

  void offer(const TreePath& path, std::uint64_t size);
  std::uint64_t files() const { return files_; }

  // Reads the sample. `known` and `naming` are given where earlier sets hold content already: chunks that are
  // there cost nothing. Files that are gone or do not read count as not compressible. Throws Stopped.
  SizeEstimate estimate(int level, const Naming& naming, KnownChunks* known, Observer& observer,
                        RunControl& control) const;

 private:
  SizeEstimate projected(const std::vector<MeasuredSpot>& measured) const;
  void close_spot();
  void add_piece(const TreePath& path, std::uint64_t offset, std::uint64_t length, bool whole);

  SampleSpot open_;
  std::uint64_t open_bytes_ = 0;
  std::uint64_t number_ = 0;  // of the spot that is open
  std::uint64_t step_ = 1;    // each so-many-th spot is kept
  std::vector<SampleSpot> kept_;
  std::uint64_t bytes_ = 0;
  std::uint64_t files_ = 0;
  std::uint64_t chunks_ = 0;
};

}  // namespace kestrum
