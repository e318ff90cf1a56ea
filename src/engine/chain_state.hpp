// What the sets of a job on this destination are good for: which chain can go on, on which base.
#pragma once

#include "archive/chain_reader.hpp"
#include "engine/home.hpp"
#include "ledger/ledger.hpp"
#include "plan/chain_plan.hpp"

namespace kestrum {

// Looks at sizes and at what earlier checks found of every set of the newest chain; marks lost slots in the
// readers. Opens the sets, so the key is needed. `unreadable`: bases that a run found out about.
std::vector<ChainSet> survey_chain(ChainReader& chain, Ledger* ledger,
                                   const std::vector<Sequence>& unreadable);

// The sealed sets as they say they are, without opening any.
std::vector<ChainSet> list_chain(const ChainReader& chain);

// In words, when the job asks for another protection than the newest chain has; else empty.
std::string protection_change(const ChainReader& chain, const Job& job);

// The readers behind `needs`, for deduplication.
std::vector<SetReader*> readers_of(ChainReader& chain, const std::vector<SetNeed>& needs);

}  // namespace kestrum
