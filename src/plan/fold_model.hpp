// What becomes of the bytes of sets that are folded, where only sizes are known: the rules of archive/fold on
// shares instead of files.
#pragma once

#include <cstdint>
#include <vector>

namespace kestrum {

// Content that was written together, in frames, and of which more and more is not needed any more.
struct StoredPart {
  double written = 0;  // bytes, when it was
  double alive = 1;    // of what was written, the share that is needed
  double stored = 0;   // bytes on the drive
  double needed = 0;   // of those
  double items = 1;    // that share a frame, on average
};

// A volume: kept or written again as a whole.
struct StoredVolume {
  std::vector<StoredPart> parts;
  double stored() const;
  double needed() const;
};

// Bytes that a fold may write for a while: within the limits of the job, or else, as far as it frees more
// than it takes, of the drive.
struct FoldSpace {
  double within = 0, free = 0;
  double wanted = 0;  // that should come free
};

class StoredContent {
 public:
  StoredContent() = default;
  // As a run writes it. `item`: bytes that become unneeded together.
  StoredContent(double bytes, double item);
  // The same of which only so much is needed.
  StoredContent(double bytes, double needed, double item);

  double stored() const;
  double needed() const;

  // One of several, the newest last; together they need `needed` bytes, what the newest holds among them.
  // `takes`: bytes that are written for it. False when there is no room for that; then nothing is folded.
  bool fold(const std::vector<const StoredContent*>& sets, double needed, const FoldSpace& room, double item,
            double& takes);

 private:
  void lose(double share);
  std::vector<bool> kept_within(double before, double room) const;
  double writes(const std::vector<bool>& kept) const;
  void write_again(const std::vector<bool>& kept, double item);
  void press(double before, const FoldSpace& space, double item, double& takes);
  std::vector<StoredVolume> volumes_;
};

}  // namespace kestrum
