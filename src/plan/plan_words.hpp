// The words of what was planned: the one place where reasons become sentences. They fit after "because" or a
// colon: no capital at the front, no full stop.
#pragma once

#include <string>

#include "base/results.hpp"
#include "plan/chain_plan.hpp"
#include "plan/keep_plan.hpp"

namespace kestrum {

// "the job makes incremental sets, compared with set 4"
std::string kind_reason_text(const KindDecision& decision);

std::string hold_text(Hold hold);
// "age = 30 days"; of the rules that the promise was made by.
std::string rule_text(const Promise& promise, const KeepRules& rules);
// Why it wants this point: "not older than 30 days".
std::string promise_text(const Promise& promise, const KeepRules& rules);
// "kept by name: before the move"; empty where nobody has said anything.
std::string standing_text(const Standing& standing);
// "point 7 needs it"; of a reason that names one.
std::string needed_text(const FateReason& reason);
// Why the point stays or goes.
std::string fate_reason_text(const KeepPlan& plan, const SetFate& fate);
// "[keep] age = 30 days is not kept"
std::string broken_rule_text(const std::string& rule);
// "[keep] age = 30 days is not kept: 2 points that it wants go to make room"
std::string broken_text(const KeepRules& rules, const BrokenPromise& broken);

// "[keep] age = 30 days is not kept: 2 points went to make room, the oldest that is left is of …"
std::string broken_text(const BrokenRule& broken);

// That a plan takes more than a tenth of the points, before it is carried out; empty otherwise.
std::string unusual_share_text(const KeepPlan& plan);

std::string absence_text(const Absence& absence);
std::string misdated_text(Sequence point);
std::string clock_behind_text(Instant now);
// A limit of share is overrun, and points are not given up for it. Bytes.
std::string over_share_text(const KeepPlan& plan, std::uint64_t total, std::uint64_t free,
                            std::uint64_t job_bytes);

}  // namespace kestrum
