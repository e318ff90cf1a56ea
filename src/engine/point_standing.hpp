// What a person says of single points: one stays whatever the rules, one is given up. It stands in the seal
// of the point's set and travels with the drive.
#pragma once

#include "engine/upkeep.hpp"

namespace kestrum {

// A point of which something was said.
struct PointSaid {
  std::string drive;  // its name
  std::string root;
  SetFacts facts;
  Health health = Health::unproved;
  bool proved = true;  // what was said of it, by the chain's key
};
// DRIVE:NUMBER, which names it and no other.
std::string exactly(const PointSaid& point);
// On every drive of the job that is connected, in order.
std::vector<PointSaid> points_said(const std::string& job, const RunContext& context);

// `point`: as --at takes it, or DRIVE:NUMBER. Throws Error: usage (no such point, the text is too long), and
// as a run does. What is said takes the place of what was said before.
constexpr std::size_t longest_because = 200;  // bytes
struct KeptOutcome {
  PointSaid now;
  bool changed = false;
};
KeptOutcome keep_point(const std::string& job, const std::string& point, const std::string& because,
                       const RunContext& context);
// Leaves the point to the rules again, kept or given up.
KeptOutcome leave_point_to_rules(const std::string& job, const std::string& point, const RunContext& context);

// What giving up a point means.
struct DropOutlook {
  PointSaid point;
  SetFate fate;               // of the point; with what is given up already
  std::string why_stays;      // where it cannot go yet; empty: it goes
  std::string wanted_by;      // the rule that wants it, in words; empty: none does
  std::size_t good_left = 0;  // points
  unsigned floor = 0;         // [keep] at-least
};
// Throws Error as keep_point does, and failed where no good point would be left.
DropOutlook look_at_drop(const std::string& job, const std::string& point, const RunContext& context);

// A point that is missed (engine/gone_points) is missed no more; nothing where `point` is no such one.
std::optional<KnownPoint> drop_gone_point(const std::string& job, const std::string& point,
                                          const RunContext& context);

struct DropOutcome {
  DropOutlook before;
  UpkeepResult done;
  bool gone = false;  // else it is given up and waits: see `done.unfolded` and `before.why_stays`
};
DropOutcome drop_point(const std::string& job, const std::string& point, const std::string& because,
                       const RunContext& context);

}  // namespace kestrum
