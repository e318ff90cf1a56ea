#include "engine/seals_anew.hpp"

#include <algorithm>
#include <map>

#include "archive/catalog_reader.hpp"
#include "archive/chain_reader.hpp"
#include "archive/lost_seals.hpp"
#include "archive/set_folder.hpp"
#include "base/text.hpp"
#include "engine/comparison.hpp"
#include "engine/run_facts.hpp"

namespace kestrum {
namespace {

class SealsAnew {
 public:
  SealsAnew(WriteSession& session, bool dry) : session_(session), dry_(dry) {}

  SealedAnew run() {
    std::vector<std::string> lost;
    for (const FoundSet& set : session_.sets()) {
      const bool only_left = set.folder.unfinished || set.folder.removing;
      if (!set.sealed() && !set.findings.empty() && !set.refusal && !set.not_ours && !set.superseded &&
          !only_left)
        lost.push_back(set.folder.name);
    }
    const bool as_remembered = session_.older_state().empty();
    for (const std::string& name : lost) make(name);
    // The sets after it name the seal that was. What was odd before is still for a person to accept.
    if (!dry_ && !result_.sets.empty() && as_remembered) session_.accept_state();
    return std::move(result_);
  }

 private:
  // The chain whose key opens it is the one that it is of.
  void make(const std::string& name) {
    const std::optional<SetFolder> folder = parse_set_folder(session_.folder(), name);
    std::string why = "no other set of its chain is there";
    for (const FoundSet* const like : nearest_of_chains(folder->sequence)) {
      try {
        const SecretKey master = session_.keys().unlock(like->seal->keys, like->facts().chain);
        const RunContext& context = session_.context();
        Seal seal =
            seal_anew(session_.store(), *folder, session_.sets(), *like, master, [&](std::uint64_t bytes) {
              context.control.checkpoint();
              context.observer.advanced(bytes, 0);
            });
        if (!dry_) put(name, *folder, std::move(seal), master);
        result_.sets.push_back(folder->sequence);
        return;
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::key && !does_not_read(error)) throw;
        why = error.what();
      }
    }
    result_.not_sealed.push_back(printable(name) + ": " + why);
  }

  // One of each chain: names, and what the clocks were ahead of UTC, are likeliest the same.
  std::vector<const FoundSet*> nearest_of_chains(Sequence sequence) const {
    std::map<Id, const FoundSet*> nearest;
    const auto distance = [&](const FoundSet& set) {
      return std::max(set.folder.sequence, sequence) - std::min(set.folder.sequence, sequence);
    };
    for (const FoundSet& set : session_.sets()) {
      if (!set.sealed() || set.not_ours) continue;
      const FoundSet*& known = nearest[set.facts().chain];
      if (known == nullptr || distance(set) < distance(*known)) known = &set;
    }
    std::vector<const FoundSet*> all;
    for (const auto& [chain, set] : nearest) all.push_back(set);
    std::sort(all.begin(), all.end(),
              [&](const FoundSet* a, const FoundSet* b) { return distance(*a) < distance(*b); });
    return all;
  }

  void put(const std::string& name, const SetFolder& folder, Seal seal, const SecretKey& master) {
    add_facts(seal, name, master);
    session_.guard().check();
    put_seals(session_.store(), folder.path, encode_seal(seal, master));
    session_.list().take_up(session_.store(), name);
  }

  // As far as its list and its records read: what does not is told by the check that follows.
  void add_facts(Seal& seal, const std::string& name, const SecretKey& master) {
    SetList sets = session_.sets();
    sets.amend([&](FoundSet& set) {
      if (set.folder.name != name) return false;
      const std::string text = encode_seal(seal, master);
      set.seal = decode_seal(Bytes(text.begin(), text.end()), name);
      set.findings.clear();
      return true;
    });
    SetFacts& facts = seal.core.facts;
    try {
      ChainReader chain(session_.store(), std::move(sets), session_.keys());
      PointReader point(chain, facts.sequence);
      const Root& root = point.set().root();
      if (!decode_run_record(point.fetch(root.record)).evidence.empty()) facts.guard = GuardMark::suspect;
      if (root.problems.length != 0) facts.problems = decode_problems(point.fetch(root.problems)).size();
      CatalogReader catalog(point, root.catalog);
      while (const std::optional<Entry> entry = catalog.next()) {
        session_.context().control.checkpoint();
        count_entry(facts.totals, *entry);
        facts.carries = facts.carries || entry->carried_from;
      }
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
    }
  }

  WriteSession& session_;
  bool dry_;
  SealedAnew result_;
};

}  // namespace

SealedAnew seal_lost_sets(WriteSession& session, bool dry) {
  return SealsAnew(session, dry).run();
}

}  // namespace kestrum
