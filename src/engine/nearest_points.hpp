// Other points than the one that was asked for, the nearest in time first: where that one has no good copy of
// something, one of these may.
#pragma once

#include "engine/look.hpp"

namespace kestrum {

class NearestPoints {
 public:
  // Of all drives, without those given up. The sessions must outlive this and not read their sets anew.
  NearestPoints(std::vector<LookSession>& subjects, std::size_t subject, const SetFacts& wanted);
  // By number, on one drive.
  NearestPoints(std::vector<LookSession>& subjects, std::size_t subject, Sequence wanted);

  // Calls `use` for one after the other until it says that this one did. What does not open is passed over.
  // The point lives until `use` returns, whatever is asked for meanwhile.
  bool each(const std::function<bool(OpenPoint&)>& use) { return each_of(all_, use); }
  // The same, only for those before, or after, what was asked for.
  bool each_before(const std::function<bool(OpenPoint&)>& use) { return each_of(before_, use); }
  bool each_after(const std::function<bool(OpenPoint&)>& use) { return each_of(after_, use); }
  // "point 11 (...) and point 13 (...)": the nearest ones before and after of which `good` is true; empty:
  // none.
  std::string names_of(const std::function<bool(OpenPoint&)>& good);

 private:
  struct Candidate {
    std::size_t subject;
    SetFacts facts;
  };
  using Places = std::vector<std::size_t>;  // of candidates_
  void order(const std::function<std::int64_t(const Candidate&)>& distance);
  bool each_of(const Places& places, const std::function<bool(OpenPoint&)>& use);
  std::shared_ptr<OpenPoint> open(std::size_t candidate);

  std::vector<LookSession>& subjects_;
  std::vector<Candidate> candidates_;
  Places all_, before_, after_;  // nearest first
  std::map<std::size_t, std::shared_ptr<OpenPoint>> open_;
};

}  // namespace kestrum
