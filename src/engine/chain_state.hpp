// What the sets of a job on this destination are good for: which chain can go on, on which base.
#pragma once

#include "archive/chain_reader.hpp"
#include "engine/history.hpp"
#include "job/job.hpp"
#include "plan/chain_plan.hpp"

namespace kestrum {

// Looks at sizes and at what earlier checks found of every set of the newest chain; marks lost places in the
// readers. Authenticates those sets, so the key is needed. `unreadable`: bases that a run found out about.
std::vector<ChainSet> survey_chain(ChainReader& chain, History& history,
                                   const std::vector<Sequence>& unreadable);

// The sealed sets as they say they are, without opening any.
std::vector<ChainSet> list_chain(const SetList& sets);

// The job asks for another protection than the newest chain has.
ProtectionChange protection_change(const SetList& sets, const Job& job);

// The readers of those sets, for deduplication; without those that cannot be read at all.
std::vector<SetReader*> readers_of(ChainReader& chain, const std::vector<Sequence>& sets);

}  // namespace kestrum
