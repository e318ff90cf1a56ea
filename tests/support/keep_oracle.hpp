// What a plan of the keep rules must be, found slowly and plainly.
#pragma once

#include <map>
#include <string>

#include "plan/job_time.hpp"
#include "plan/keep_plan.hpp"

namespace kestrum::test {

// The one among `sets` that meets the need, looked for one by one; nullptr when none does.
const KeptSet* met_by(const std::vector<KeptSet>& sets, const SetNeed& need, const Id& chain);
std::size_t good_points(const std::vector<KeptSet>& sets);
// The newest chain in which everything is good.
std::optional<Id> good_chain(const std::vector<KeptSet>& sets);

// Judges one plan. The question and the plan must outlive it.
class KeepOracle {
 public:
  KeepOracle(const KeepQuestion& asked, const KeepPlan& plan);
  // Every promise is judged rightly; none is broken that could be kept, nor for what others have put on the
  // drive; what goes to make room does reach the limits, and with the last of it kept they would not be
  // reached; the oldest go first; what was given up by name goes. Empty, or what is wrong.
  std::string failure();
  bool breaks_a_promise() const { return any_broken_; }

 private:
  bool young(std::size_t i, const Span& span) const;
  bool wanted(std::size_t i) const;
  bool wanted_by_thinning(const ThinRule& rule, std::size_t i) const;
  const std::string& period(std::size_t i, Span::Unit unit) const;
  bool is_needed(std::size_t i) const;
  std::string promises();
  std::string needless() const;
  std::string order() const;
  std::string room() const;
  bool for_room(std::size_t i) const;
  std::vector<bool> with_needs(std::vector<bool> wanted) const;
  // Bytes left within the limits with those gone; `own`: see room_for_run.
  std::int64_t room_with(const std::vector<bool>& gone, bool own) const;
  std::string name(std::size_t i) const;

  const KeepQuestion& asked_;
  const KeepPlan& plan_;
  const std::vector<KeptSet>& sets_;
  const KeepRules rules_;
  const JobTime time_;
  std::vector<bool> promised_;
  bool any_broken_ = false;
  mutable std::map<std::pair<std::size_t, Span::Unit>, std::string> periods_;
};

}  // namespace kestrum::test
