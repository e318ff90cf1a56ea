// Which points the promises of [keep] want.
#pragma once

#include "plan/job_time.hpp"

namespace kestrum {

// One for each set of the question, for rules that are acted on.
std::vector<Promise> promises(const KeepQuestion& question, const KeepRules& rules, const JobTime& time);

// Numbers of the chains of the sets, from 0 in order of their first sets.
std::vector<std::size_t> chain_numbers(const std::vector<KeptSet>& sets);

}  // namespace kestrum
