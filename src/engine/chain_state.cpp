#include "engine/chain_state.hpp"

#include "archive/catalog_reader.hpp"

namespace kestrum {
namespace {

bool catalog_reads_whole(ChainReader& chain, Sequence sequence) {
  try {
    PointReader point(chain, sequence);
    CatalogReader reader(point, point.set().root().catalog);
    while (reader.next()) {
    }
    return true;
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::damage && error.kind() != ErrorKind::failed) throw;
    return false;
  }
}

}  // namespace

std::vector<ChainSet> survey_chain(ChainReader& chain, Ledger* ledger,
                                   const std::vector<Sequence>& unreadable) {
  std::vector<ChainSet> surveyed;
  std::optional<Id> newest;
  for (const FoundSet& set : chain.sets()) {
    if (set.sealed()) newest = set.seal->core.facts.chain;
  }
  bool any_loss = !unreadable.empty();
  for (const FoundSet& set : chain.sets()) {
    if (!set.sealed()) {
      any_loss = any_loss || !set.superseded;
      continue;
    }
    ChainSet one{.facts = set.seal->core.facts};
    if (one.facts.chain == newest) {
      SetReader* reader = chain.try_set(one.facts.sequence);
      if (reader == nullptr) {
        any_loss = true;
        continue;  // not authentic: it does not count
      }
      reader->check_sizes();
      if (ledger != nullptr) {
        if (std::optional<CheckEntry> check = ledger->last_check(one.facts.set)) {
          reader->mark_lost(check->lost);
        }
      }
      one.wholly_absent = reader->index_is_lost();
      one.damaged = reader->has_losses();
      any_loss = any_loss || one.damaged;
    }
    surveyed.push_back(std::move(one));
  }
  for (ChainSet& set : surveyed) {
    if (set.facts.chain != newest || !any_loss) continue;
    bool known_bad = std::find(unreadable.begin(), unreadable.end(), set.facts.sequence) != unreadable.end();
    set.catalog_reads = !known_bad && catalog_reads_whole(chain, set.facts.sequence);
  }
  return surveyed;
}

std::vector<ChainSet> list_chain(const ChainReader& chain) {
  std::vector<ChainSet> sets;
  for (const FoundSet& set : chain.sets()) {
    if (set.sealed()) sets.push_back({.facts = set.seal->core.facts});
  }
  return sets;
}

std::string protection_change(const ChainReader& chain, const Job& job) {
  const FoundSet* newest = nullptr;
  for (const FoundSet& set : chain.sets()) {
    if (set.sealed()) newest = &set;
  }
  if (newest == nullptr) return {};
  bool encrypted = keeps_others_out(newest->seal->keys);
  if (job.encryption == Encryption::none && encrypted)
    return "encryption was turned off, which needs a new chain";
  if (job.encryption != Encryption::none && !encrypted)
    return "encryption was turned on, which needs a new chain";
  return {};
}

std::vector<SetReader*> readers_of(ChainReader& chain, const std::vector<SetNeed>& needs) {
  std::vector<SetReader*> readers;
  for (const SetNeed& need : needs) {
    // Decided just now: each names a set as it is, not one that was folded.
    SetReader* reader = chain.try_set(need.sequence);
    if (reader != nullptr && reader->facts().set == need.set && !reader->index_is_lost())
      readers.push_back(reader);
  }
  return readers;
}

}  // namespace kestrum
