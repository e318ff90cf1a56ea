#include "engine/path_proof.hpp"

#include <algorithm>

#include "archive/set_folder.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

enum class Proof { none, clear, closed, forged, opened, proved };

struct Judged {
  Proof proof = Proof::none;
  Digest origin{};  // opened, proved: what tells the naming key
};

class PathProver {
 public:
  PathProver(SetList& sets, KeyRing& keys, const PathProof& proof)
      : sets_(sets), keys_(keys), proof_(proof) {}

  void run() {
    if (!worth_trying()) return;
    for (const FoundSet& set : sets_) {
      if (set.sealed()) judged_[set.folder.path] = judge(set);
    }
    for (const FoundSet& set : sets_) {
      if (set.sealed() && judged_[set.folder.path].proof == Proof::closed &&
          opens_by_its_chain(*set.seal, keys_))
        judged_[set.folder.path] = judge(set);
    }
    if (!any(Proof::opened) && !any(Proof::proved)) {
      if (closed_ && (keys_.recovery_key() || keys_.passphrase())) throw *closed_;
      return;
    }
    follow_naming_keys();
    follow_order();
    sets_.amend([&](FoundSet& set) { return settle(set); });
  }

 private:
  // Some are encrypted, and it is not one without encryption that is meant.
  bool worth_trying() const {
    bool encrypted = false;
    for (const FoundSet& set : sets_) {
      if (!set.sealed()) continue;
      const bool kept = keeps_others_out(set.seal->keys);
      if (!kept && set.folder.sequence == proof_.named) return false;
      encrypted = encrypted || kept;
    }
    return encrypted;
  }

  bool any(Proof which) const {
    return std::any_of(judged_.begin(), judged_.end(),
                       [&](const auto& one) { return one.second.proof == which; });
  }

  Judged judge(const FoundSet& set) {
    const Seal& seal = *set.seal;
    if (!keeps_others_out(seal.keys)) return {Proof::clear, {}};
    std::optional<KeyRing::Opened> opened;
    try {
      opened = keys_.open(seal.keys, seal.core.facts.chain);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key && error.kind() != ErrorKind::damage) throw;
      if (!closed_) closed_ = error;
      return {Proof::closed, {}};
    }
    const Seal* ours = &seal;
    if (!seal_is_authentic(seal, opened->master)) ours = set.twin ? &*set.twin : nullptr;
    if (ours == nullptr || !seal_is_authentic(*ours, opened->master)) return {Proof::forged, {}};
    return {opened->by == KeyEntryType::passphrase || remembered(seal, opened->master) ? Proof::proved
                                                                                       : Proof::opened,
            origin_of(*ours, opened->master)};
  }

  bool remembered(const Seal& seal, const SecretKey& master) const {
    if (proof_.remembered == nullptr) return false;
    const auto known = proof_.remembered->find(seal.core.facts.chain);
    return known != proof_.remembered->end() && known->second == key_check(master);
  }

  static Digest origin_of(const Seal& seal, const SecretKey& master) {
    return key_check(unbox_naming(seal.core.naming, master, seal.core.facts.chain));
  }

  void follow_naming_keys() {
    std::map<Digest, bool> origins;  // whether something of it is proved
    for (const auto& [path, one] : judged_) {
      if (one.proof == Proof::proved) origins[one.origin] = true;
      if (one.proof == Proof::opened) origins.try_emplace(one.origin, false);
    }
    const bool proves = any(Proof::proved);
    if (!proves && origins.size() > 1) name_one(origins);
    for (auto& [path, one] : judged_) {
      if (one.proof == Proof::opened && (proves || origins.size() > 1) && !origins[one.origin])
        one.proof = Proof::none;
    }
  }

  // The one that is meant, or nobody knows.
  void name_one(std::map<Digest, bool>& origins) {
    std::map<Digest, std::vector<Sequence>> points;
    for (const FoundSet& set : sets_) {
      const auto found = judged_.find(set.folder.path);
      if (found == judged_.end() || found->second.proof != Proof::opened) continue;
      points[found->second.origin].push_back(set.folder.sequence);
      if (set.folder.sequence == proof_.named) {
        origins[found->second.origin] = true;
        return;
      }
    }
    std::vector<std::string> groups;
    for (const auto& [origin, some] : points) groups.push_back(sequences_text(some));
    std::sort(groups.begin(), groups.end());
    throw Error(
        ErrorKind::key,
        "the recovery key opens points of " + std::to_string(groups.size()) + " origins here (" +
            join(groups, "; ") +
            "), and does not tell who made them: anybody who could write there may have made some",
        "give a passphrase, which proves it; or look at one of them by naming its folder on the drive");
  }

  // Each set names the one before it: what an authentic one names was there when it was made.
  void follow_order() {
    std::set<Digest> named;
    std::vector<const FoundSet*> all;
    for (const FoundSet& set : sets_) {
      if (set.sealed()) all.push_back(&set);
    }
    std::reverse(all.begin(), all.end());
    for (const FoundSet* set : all) {
      Judged& one = judged_[set->folder.path];
      if (one.proof == Proof::clear && named.contains(set->seal->core_digest)) one.proof = Proof::proved;
      const bool counts = one.proof == Proof::proved || one.proof == Proof::opened;
      if (counts && set->seal->core.previous) named.insert(*set->seal->core.previous);
    }
  }

  bool settle(FoundSet& set) {
    const auto found = judged_.find(set.folder.path);
    if (found == judged_.end() || !set.sealed()) return false;
    switch (found->second.proof) {
      case Proof::proved:
      case Proof::opened:
        return take_authentic_twin(set);
      case Proof::clear:
        return leave(set, NotOurs::clear);
      case Proof::closed:
        return leave(set, NotOurs::closed);
      case Proof::forged:
        return leave(set, NotOurs::forged);
      case Proof::none:
        return leave(set, NotOurs::unknown);
    }
    return false;
  }

  bool take_authentic_twin(FoundSet& set) {
    if (!set.twin || !keeps_others_out(set.seal->keys)) return false;
    if (seal_is_authentic(*set.seal, keys_.unlock(set.seal->keys, set.facts().chain))) return false;
    std::swap(set.seal, set.twin);
    return true;
  }

  static bool leave(FoundSet& set, NotOurs why) {
    leave_out(set, why);
    return true;
  }

  SetList& sets_;
  KeyRing& keys_;
  const PathProof& proof_;
  std::map<std::string, Judged> judged_;  // by path
  std::optional<Error> closed_;
};

}  // namespace

void prove_by_path(SetList& sets, KeyRing& keys, const PathProof& proof) {
  PathProver(sets, keys, proof).run();
}

}  // namespace kestrum
