// Which points the promises of [keep] want.
#pragma once

#include "plan/keep_plan.hpp"

namespace kestrum {

struct Promise {
  std::string rule;    // "age = 30 days"; empty: no promise wants it
  std::string reason;  // of this point, plain words
};

// One for each set of the question, for rules that are acted on.
std::vector<Promise> promises(const KeepQuestion& question, const KeepRules& rules);

// Why none of the promises wants a point, in their own words: "older than 10 days, not one of the newest 3
// points".
std::string unwanted_text(const KeepRules& rules, bool endless);

// Numbers of the chains of the sets, from 0 in order of their first sets.
std::vector<std::size_t> chain_numbers(const std::vector<KeptSet>& sets);

}  // namespace kestrum
