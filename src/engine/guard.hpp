// The guard: points that stood out when they were made, and what a person says of them. docs/ARCHITECTURE.md,
// "The guard".
#pragma once

#include "engine/each_drive.hpp"
#include "engine/guard_tally.hpp"
#include "plan/chain_plan.hpp"

namespace kestrum {

// Some point there is suspect, and nobody has said what to make of it.
bool any_suspect(const SetList& sets);

// Whoever wishes for the latest, or for a moment, gets what nobody doubts: which suspect point would have
// been nearer, in one sentence; empty when none would.
std::string passed_over(const SetList& sets, const PointWish& wish);

// What a run is weighed against. There must be a point that nobody doubts.
GuardSetup guard_setup(const SetList& sets, const KindDecision& decision, const Job& job);

// Makes the job's bait files that are not there, unless the point that nobody doubts has them: then it is
// evidence that they are not. `reference`: 0 when there is none. Returns what a person should know of, a line
// each.
std::vector<std::string> set_bait_out(const Job& job, ChainReader& chain, Sequence reference);

// What a run that has made such a point ends with: kind suspect.
Error suspect_error(const std::string& job, const SetList& sets, Sequence point,
                    const std::vector<EvidenceLine>& evidence);

// A point that is suspect, or was rejected.
struct DoubtedPoint {
  SetFacts facts;
  std::vector<EvidenceLine> evidence;
  std::vector<std::string> examples;  // paths
  std::string unread;                 // why the evidence cannot be read; empty: it can
};
struct GuardLook {
  std::string drive;  // its name
  std::string root;
  std::optional<SetFacts> newest_trusted;
  std::vector<DoubtedPoint> points;  // in order
  std::size_t suspect() const;
};
// On every drive of the job that is connected. Throws as EachDrive does.
std::vector<GuardLook> look_at_guard(const std::string& job, const RunContext& context);

struct GuardVerdict {
  std::string drive;
  std::vector<Sequence> points;  // that it holds for
  std::optional<SetFacts> newest_trusted;
  std::size_t suspect_left = 0;  // on that drive
};
// `point`: a number, or DRIVE:NUMBER. Trusted, those suspect ones before it are too; rejected, those after it
// are too: all were compared with the same one. Throws usage when that point is neither suspect nor rejected.
GuardVerdict pass_verdict(const std::string& job, const std::string& point, bool trusted,
                          const RunContext& context);

}  // namespace kestrum
