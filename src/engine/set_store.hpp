// Writing one set from start to seal, and reading it back.
#pragma once

#include "archive/set_check.hpp"
#include "engine/backup.hpp"
#include "engine/chain_state.hpp"
#include "engine/destination.hpp"
#include "engine/job_lock.hpp"
#include "engine/set_run.hpp"

namespace kestrum {

// Everything that is settled before the first byte is written.
struct SetPlan {
  const Job& job;
  Destination& destination;
  const Selection& selection;
  KindDecision decision;
  Sequence sequence = 1;
  Id chain{};
  SecretKey master;
  std::vector<KeyEntry> keys;
  SecretKey naming;
  std::optional<Digest> previous;
  Instant started;
};

struct StoredSet {
  Seal seal;
  std::string folder;  // in the store, its final name
};

// Throws BaseUnreadable when another base must be chosen, Error otherwise; then nothing is left in the
// destination, as far as it can be removed. `lock` is asked before sealing.
// `store`: the destination's, or one that passes on to it.
StoredSet store_set(const SetPlan& plan, Store& store, ChainReader& chain, const RunContext& context,
                    const JobLock& lock, std::vector<Problem>& problems);

}  // namespace kestrum
