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
    if (!does_not_read(error)) throw;
    return false;
  }
}

}  // namespace

namespace {

// Nothing when the set is not authentic: it does not count then.
std::optional<ChainSet> survey_set(ChainReader& chain, const FoundSet& set, History& history) {
  SetReader* reader = chain.try_set(set.folder.sequence);
  if (reader == nullptr) return std::nullopt;
  LostPlaces lost;
  for (const FileTrouble& file : look_at_sizes(reader->store(), set)) lost.slots.insert(file.slot);
  if (std::optional<CheckEntry> check = history.checks(set.facts().set).last) lost.add(check->lost);
  reader->mark_lost(lost);
  return ChainSet{.facts = set.facts(),
                  .catalog_reads = true,
                  .wholly_absent = reader->index_is_lost(),
                  .damaged = reader->has_losses()};
}

}  // namespace

std::vector<ChainSet> survey_chain(ChainReader& chain, History& history,
                                   const std::vector<Sequence>& unreadable) {
  std::vector<ChainSet> surveyed;
  const FoundSet* last = chain.sets().newest_trusted();
  std::optional<Id> newest;
  if (last != nullptr) newest = last->facts().chain;
  bool any_loss = !unreadable.empty();
  for (const FoundSet& set : chain.sets()) {
    if (!set.sealed()) {
      any_loss = any_loss || !set.superseded;
    } else if (set.facts().chain != newest) {
      surveyed.push_back({.facts = set.facts()});
    } else if (std::optional<ChainSet> one = survey_set(chain, set, history)) {
      any_loss = any_loss || one->damaged;
      surveyed.push_back(std::move(*one));
    } else {
      any_loss = true;
    }
  }
  for (ChainSet& set : surveyed) {
    if (set.facts.chain != newest || !any_loss) continue;
    bool known_bad = std::find(unreadable.begin(), unreadable.end(), set.facts.sequence) != unreadable.end();
    set.catalog_reads = !known_bad && catalog_reads_whole(chain, set.facts.sequence);
  }
  return surveyed;
}

std::vector<ChainSet> list_chain(const SetList& sets) {
  std::vector<ChainSet> out;
  for (const FoundSet& set : sets) {
    if (set.sealed()) out.push_back({.facts = set.facts()});
  }
  return out;
}

ProtectionChange protection_change(const SetList& sets, const Job& job) {
  const FoundSet* newest = sets.newest_trusted();
  if (newest == nullptr) newest = sets.newest();
  if (newest == nullptr) {
    for (const FoundSet& set : sets) {
      if (set.not_ours == NotOurs::closed) return ProtectionChange::new_passphrase;
    }
    return ProtectionChange::none;
  }
  bool encrypted = keeps_others_out(newest->seal->keys);
  if (job.encryption == Encryption::none && encrypted) return ProtectionChange::turned_off;
  if (job.encryption != Encryption::none && !encrypted) return ProtectionChange::turned_on;
  return ProtectionChange::none;
}

std::vector<SetReader*> readers_of(ChainReader& chain, const std::vector<Sequence>& sets) {
  std::vector<SetReader*> readers;
  for (Sequence sequence : sets) {
    SetReader* reader = chain.try_set(sequence);
    if (reader != nullptr && !reader->index_is_lost()) readers.push_back(reader);
  }
  return readers;
}

}  // namespace kestrum
