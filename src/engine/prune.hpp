// Keep rules and folding, asked for by a person: over every destination of the job that is connected.
#pragma once

#include "engine/upkeep.hpp"

namespace kestrum {

struct PruneOutcome {
  std::string destination;  // as the job names it
  std::string root;
  std::vector<KeptSet> sets;         // before, in order
  std::vector<std::string> rules;    // that are acted on, in words
  KeepPlan plan;                     // what was done first, or would be done
  std::optional<UpkeepResult> done;  // none: only shown
  StoreSpace space;                  // afterwards
};

// Throws Error as a run does; no_destination when there is no set anywhere yet.
std::vector<PruneOutcome> prune_job(const std::string& name, bool dry, const RunContext& context);

struct FoldRequest {
  std::optional<Sequence> first, last;  // none: what the keep rules let go within a chain
  bool dry = false;
  bool beyond_rules = false;  // points may go that the keep rules want
};
struct FoldOutcome {
  std::string destination;
  std::string root;
  std::vector<FoldPlan> batches;  // carried out, or the first of each range that would be
  std::uint64_t points_gone = 0;
  std::uint64_t bytes_before = 0, bytes_after = 0;  // of the job's sets
};

// Throws Error: usage (no such point, several destinations and a range, points that the rules want or that
// are kept by name), full (no room), damage.
std::vector<FoldOutcome> fold_job(const std::string& name, const FoldRequest& request,
                                  const RunContext& context);

}  // namespace kestrum
