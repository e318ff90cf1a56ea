// Which parts of the sets a check looks at this time, in which order, and what it has proved.
#pragma once

#include <chrono>

#include "archive/found_set.hpp"
#include "base/results.hpp"
#include "engine/history.hpp"
#include "engine/set_proofs.hpp"

namespace kestrum {

// How much of a check is done in one go; what is left is for the next time.
struct CheckBudget {
  std::optional<std::chrono::nanoseconds> time;
  std::optional<std::uint64_t> bytes;
  bool any() const { return time || bytes; }
};

struct RoundRequest {
  CheckBudget budget;
  // By which a check that did not come to its end is found again; empty: it always begins anew.
  std::string name;
  bool anew = false;  // also where one has not come to its end
};

class CheckRound {
 public:
  // One that has not come to its end for so long is begun anew.
  static constexpr std::int64_t longest_seconds = std::int64_t{400} * 86400;
  // `history` may be nullptr: then nothing is remembered. References must outlive this.
  CheckRound(const RoundRequest& request, const Clock& clock, History* history);

  // What is known of these sets; goes on with the round of that name, or begins it.
  void begin(const std::vector<const FoundSet*>& sets);
  // When the round began that this check goes on with.
  const std::optional<Instant>& went_on() const { return went_on_; }
  // Those of which a part was read longest ago, or never, come first.
  void sort(std::vector<const FoundSet*>& sets) const;
  const SetProofs& proofs(const Id& set) const;

  bool is_due(const Id& set, const Stretch& stretch) const;
  // The budget is used up. Never before something was done.
  bool over() const;
  void advanced(std::uint64_t bytes) {
    done_bytes_ += bytes;
    any_done_ = true;
  }
  void proved(const Id& set, const Stretch& stretch);
  // It does not read as it was sealed.
  void refuted(const Id& set, const Stretch& stretch);
  // What does not read of a set now. Remembers since when that is so.
  void lost(const Id& set, const LostPlaces& places);
  // Of a frame that is lost, or of a whole file (frame 0), as far as it is remembered.
  struct LostSince {
    std::optional<Instant> read_well;  // the last time
    std::optional<Instant> found;      // when it did not any more, the first time
  };
  LostSince lost_since(const Id& set, std::uint32_t slot, std::uint64_t frame) const;
  // It was due, and is left for the next time.
  void leave(std::uint64_t bytes) {
    ++left_;
    left_bytes_ += bytes;
  }
  bool complete() const { return left_ == 0; }
  std::uint64_t left_bytes() const { return left_bytes_; }
  // Puts down what was proved so far.
  void write();
  // Nothing more comes. A round of which nothing is left has come to its end.
  void end();

 private:
  void keep(const Id& set, const Proof& proof);
  const RoundRequest& request_;
  const Clock& clock_;
  History* history_;
  std::chrono::steady_clock::time_point started_;
  std::optional<Instant> began_, went_on_;
  std::map<Id, SetProofs> proofs_;
  std::map<Id, std::vector<Proof>> pending_;
  std::size_t pending_count_ = 0;
  std::vector<std::pair<Id, Stretch>> bad_;  // places that do not read, met in this go
  std::map<Id, SetProofs> void_;             // what was known of these
  std::uint64_t done_bytes_ = 0, left_ = 0, left_bytes_ = 0;
  bool any_done_ = false;
};

}  // namespace kestrum
