// Which set needs which, directly and through others: docs/FORMAT.md section 9.
#pragma once

#include "base/set_facts.hpp"

namespace kestrum {

// Over sets in order of sequence, which must outlive it. Sets go by their place in that order. Looking one up
// costs the logarithm of their number, a closure its own size.
class SetNeeds {
 public:
  SetNeeds() = default;
  explicit SetNeeds(std::vector<const SetFacts*> sets);

  static constexpr std::size_t none = SIZE_MAX;
  std::size_t size() const { return sets_.size(); }
  const SetFacts& facts(std::size_t i) const { return *sets_[i]; }
  // The set that meets a need of a set of that chain.
  std::size_t meeting(const SetNeed& need, const Id& chain) const;

  struct Closure {
    std::vector<std::size_t> met;  // in order, without the set itself
    std::vector<SetNeed> missing;  // met by none
    // Some set on the way is gone, and with it what it needed in turn, or the needs are such as no writer
    // leaves: then all earlier sets of the chain are in `met`, which is more than enough.
    bool guessed = false;
  };
  // All that a point needs besides its own set. `start`: a set that need not be among these.
  Closure closure(std::size_t i) const { return closure(*sets_[i]); }
  Closure closure(const SetFacts& start) const;
  // Appends what it names itself, as far as it is there; all earlier sets of its chain where something is
  // not.
  void add_direct(std::size_t i, std::vector<std::size_t>& out) const;

 private:
  std::vector<std::size_t> earlier(const SetFacts& start) const;
  std::vector<const SetFacts*> sets_;
};

}  // namespace kestrum
