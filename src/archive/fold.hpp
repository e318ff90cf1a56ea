// Folding: a range of sets of a chain becomes one, without the sources. docs/FORMAT.md section 11.
#pragma once

#include "archive/reachable.hpp"

namespace kestrum {

// What of one file of a set in the range is needed.
struct FoldedFile {
  Sequence set = 0;
  std::uint32_t slot = 0;
  bool kept = false;           // taken over as it is
  bool may_be_kept = false;    // nothing in it is in an earlier set of the range too
  bool thorough = false;       // written again: hardly anything that is not needed comes along
  std::uint32_t new_slot = 0;  // when kept
  struct Frame {
    std::uint32_t size = 0;
    std::uint32_t needed = 0, content = 0;   // bytes of content
    bool twice = false;                      // may hold what an earlier set of the range holds too
    bool copied_whole(bool thorough) const;  // else what is needed of it is packed anew
  };
  std::map<std::uint64_t, Frame> frames;  // by offset
  std::uint64_t copied_bytes() const;     // that are written again, at most
  double needed_share() const;            // of its content
};

// A fold before it is carried out: what it takes over, copies and leaves out.
struct FoldPlan {
  Sequence first = 0, last = 0;  // covered
  std::vector<Sequence> sets;    // sealed ones of the range, in order
  std::vector<FoldedFile> files;
  std::uint64_t stored_bytes = 0;  // of those sets
  std::uint64_t kept_bytes = 0;    // in volumes that stay as they are
  std::uint64_t copied_bytes = 0;  // in frames that are written again
  std::uint64_t records = 0;       // of the index, at most
  // Space that must be free while it is done, at most; the old sets lie beside it until the end.
  std::uint64_t needed_bytes() const;
  std::uint64_t frees_bytes() const;  // at least, but for the index
  // Shares as content bytes: below, a frame is packed anew; below, a volume is not kept.
  static constexpr double least_of_frame = 0.5;
  static constexpr double least_of_volume = 0.75;
  // The same for both where room is wanted.
  static constexpr double least_when_pressed = 0.85;
};

struct FoldContext {
  ChainReader& chain;
  std::function<void(std::uint64_t bytes)> step;  // done so far; may throw to stop
};

// How much room a fold has, and how much it is to make.
struct FoldRoom {
  std::uint64_t allowed = UINT64_MAX;  // bytes that may be written for a while
  std::uint64_t wanted = 0;            // bytes that should come free
  std::uint64_t volume_bytes = std::uint64_t{1} << 30;
};

// The sealed sets that `first` to `last` cover, all of one chain. Throws damage where it cannot be said what
// is needed: then nothing may be folded. `reachable` is what the last of the range, and later sets that need
// something of it, refer to. Where less would come free than is wanted, more volumes are written again, those
// first of which least is needed. Where what should be written again takes more room than is allowed, more
// volumes stay as they are, those first of which most is needed: a later fold comes to them.
FoldPlan plan_fold(const FoldContext& context, Sequence first, Sequence last, ReachableChunks& reachable,
                   const FoldRoom& room = {});

struct FoldedSet {
  Seal seal;  // ready to be written
  SetIdentity identity;
};

// Writes the volumes and the index into `folder`, which exists. Sealing is the caller's.
FoldedSet write_fold(const FoldContext& context, const FoldPlan& plan, const ReachableChunks& reachable,
                     Store& store, const std::string& folder, const SecretKey& master,
                     SetWriterOptions options);

// Reads back what was written and looks up every needed chunk. What is wrong, in plain words.
std::vector<std::string> check_fold(const FoldContext& context, const FoldPlan& plan,
                                    const ReachableChunks& reachable, SetReader& folded);

}  // namespace kestrum
