#include "engine/own_sets.hpp"

#include <algorithm>

#include "base/text.hpp"

namespace kestrum {
namespace {

void take_in(FoundSet& set) {
  set.not_ours.reset();
  set.seal = std::move(set.left_out);
  set.left_out.reset();
}

// Its seal, whether it counts or not; nullptr when there is none.
const Seal* seal_of(const FoundSet& set) {
  return set.seal ? &*set.seal : set.left_out ? &*set.left_out : nullptr;
}

bool is_clear(const Seal& seal) {
  return !keeps_others_out(seal.keys);
}

bool pinned(const OwnRules& rules, const Id& chain, const SecretKey& master) {
  auto known = rules.remembered->find(chain);
  return known != rules.remembered->end() && known->second == key_check(master);
}

// Of a clear chain that this machine has made: the key stands there for everybody, so that only age tells.
bool made_here(const Seal& seal, const OwnRules& rules) {
  if (rules.remembered == nullptr) return false;
  return std::any_of(seal.keys.begin(), seal.keys.end(), [&](const KeyEntry& entry) {
    return entry.type == KeyEntryType::clear && pinned(rules, seal.core.facts.chain, entry.clear_key);
  });
}

// The keys of the chains that lie there, as far as they are at hand.
class Prover {
 public:
  Prover(SetList& sets, KeyRing& keys, const OwnRules& rules, KeysWanted wanted)
      : sets_(sets), keys_(keys), rules_(rules), wanted_(wanted) {}

  void run() {
    // Those that this machine knows come first: what somebody has put there cannot use up the work that one
    // command gives to opening keys.
    for (bool known : {true, false}) {
      for_each([&](const FoundSet& set, const Seal& seal) {
        if (rules_.knows(seal.core.facts.chain) == known) try_key(set, seal);
      });
    }
    for (const auto& [set, error] : unopened_) count_closed(*set, *seal_of(*set), error);
    if (wanted_ == KeysWanted::newest) refuse_wrong_key();
    sets_.amend([&](FoundSet& set) { return settle(set); });
  }

 private:
  void for_each(const std::function<void(const FoundSet&, const Seal&)>& use) {
    for (const FoundSet& set : sets_) {
      const Seal* seal = seal_of(set);
      if (seal != nullptr && concerns(set, *seal)) use(set, *seal);
    }
  }

  bool concerns(const FoundSet& set, const Seal& seal) const {
    if (set.not_ours && *set.not_ours != NotOurs::unknown) return false;
    return is_clear(seal) || rules_.encrypted;
  }

  void try_key(const FoundSet& set, const Seal& seal) {
    if (is_clear(seal)) return;
    try {
      keys_.unlock(seal.keys, seal.core.facts.chain);
      opened_ = true;
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key && error.kind() != ErrorKind::damage) throw;
      unopened_.emplace_back(&set, error);
      return;
    }
    newest_opened_ = std::max(newest_opened_, set.folder.sequence);
  }

  // Once all others were tried.
  void count_closed(const FoundSet& set, const Seal& seal, const Error& error) {
    if (opens_by_its_chain(seal, keys_)) {
      newest_opened_ = std::max(newest_opened_, set.folder.sequence);
      return;
    }
    bool counts =
        rules_.remembered == nullptr || rules_.remembered->empty() || rules_.knows(seal.core.facts.chain);
    if (!counts) return;
    closed_ = error;
    newest_closed_ = std::max(newest_closed_, set.folder.sequence);
  }

  // A wrong passphrase must not begin a chain beside the one that it does not open.
  void refuse_wrong_key() const {
    if (!closed_) return;
    bool only_strange = opened_ && (rules_.remembered == nullptr || rules_.remembered->empty());
    if (opened_ && (only_strange || newest_closed_ < newest_opened_)) return;
    if (rules_.job.empty() || !keys_.passphrase()) throw *closed_;
    throw Error(
        ErrorKind::key, closed_->what(),
        "if it is not the right one, mend that; only it, or a recovery key of the job, opens the "
        "sets. If it is a new one, "
        "begin a chain with it: kestrum run " +
            shell_word(printable(rules_.job)) +
            " --new-passphrase; the passphrase of before opens what is there now. To make it open that "
            "too: kestrum passphrase change " +
            shell_word(printable(rules_.job)) + " --old SOURCE");
  }

  // True when it changed.
  bool settle(FoundSet& set) {
    const Seal* seal = seal_of(set);
    if (seal == nullptr || !concerns(set, *seal)) return false;
    const Id chain = seal->core.facts.chain;
    std::optional<KeyRing::Opened> opened;
    try {
      opened = keys_.open(seal->keys, chain);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key && error.kind() != ErrorKind::damage) throw;
      if (set.not_ours || wanted_ == KeysWanted::as_far_as_they_open) return false;
      leave_out(set, rules_.knows(chain) || rules_.remembered == nullptr || rules_.remembered->empty()
                         ? NotOurs::closed
                         : NotOurs::unknown);
      return true;
    }
    const SecretKey& master = opened->master;
    // Whoever has the public part of a recovery key can make a chain that it opens: only the passphrase takes
    // in what this machine does not know.
    if (set.not_ours && opened->by == KeyEntryType::recovery && !rules_.knows(chain)) return false;
    // Without encryption the run itself says so: there is nothing else to go on with.
    if (rules_.encrypted && rules_.knows(chain) && !pinned(rules_, chain, master)) {
      leave_out(set, NotOurs::replaced);
      return true;
    }
    bool changed = set.not_ours.has_value();
    if (changed) take_in(set);
    if (seal_is_authentic(*set.seal, master)) return changed;
    if (set.twin && seal_is_authentic(*set.twin, master)) {
      std::swap(set.seal, set.twin);
    } else {
      leave_out(set, NotOurs::forged);
    }
    return true;
  }

  SetList& sets_;
  KeyRing& keys_;
  const OwnRules& rules_;
  KeysWanted wanted_;
  bool opened_ = false;
  std::vector<std::pair<const FoundSet*, Error>> unopened_;
  std::optional<Error> closed_;
  Sequence newest_closed_ = 0, newest_opened_ = 0;
};

std::string reason_text(NotOurs why) {
  switch (why) {
    case NotOurs::clear:
      return "it is not encrypted as the job is: anybody who can write the drive could have written it";
    case NotOurs::unknown:
      return "this machine has not made it, and the passphrase has not opened it";
    case NotOurs::closed:
      return "the passphrase at hand does not open it";
    case NotOurs::replaced:
      return "it opens to another key than the one that this machine remembers";
    case NotOurs::forged:
      return "its seal was not written with the key of its chain";
  }
  return {};
}

}  // namespace

bool opens_by_its_chain(const Seal& seal, KeyRing& keys) {
  const Id& chain = seal.core.facts.chain;
  for (const KeyRing::Opened& opened : keys.opened_of(chain)) {
    if (!seal_is_authentic(seal, opened.master)) continue;
    keys.take(seal.keys, chain, opened);
    return true;
  }
  return false;
}

void leave_out(FoundSet& set, NotOurs why) {
  set.not_ours = why;
  if (set.seal) set.left_out = std::move(set.seal);
  set.seal.reset();
}

void leave_out_by_form(SetList& sets, const OwnRules& rules) {
  if (!rules.encrypted) return;
  bool remembers = rules.remembered != nullptr && !rules.remembered->empty();
  // The first that keeps others out: what was clear before it is from before.
  const FoundSet* first = nullptr;
  std::optional<Instant> earliest;
  for (const FoundSet& set : sets) {
    if (!set.sealed() || is_clear(*set.seal) || (remembers && !rules.knows(set.facts().chain))) continue;
    if (first == nullptr) first = &set;
    if (!earliest || set.facts().started < *earliest) earliest = set.facts().started;
  }
  Sequence number = first != nullptr ? first->folder.sequence : 0;
  sets.amend([&](FoundSet& set) {
    if (!set.sealed()) return false;
    if (is_clear(*set.seal)) {
      bool before = number == 0 || (set.folder.sequence < number && set.facts().started < *earliest);
      bool known = !before && rules.made_here && rules.made_here(set.facts().set);
      if ((before || known) && made_here(*set.seal, rules)) return false;
      leave_out(set, NotOurs::clear);
      return true;
    }
    if (!remembers || rules.knows(set.facts().chain)) return false;
    leave_out(set, NotOurs::unknown);
    return true;
  });
}

void prove(SetList& sets, KeyRing& keys, const OwnRules& rules, KeysWanted wanted) {
  Prover(sets, keys, rules, wanted).run();
}

SetList with_closed(SetList sets) {
  auto closed = [](const FoundSet& set) { return set.not_ours == NotOurs::closed; };
  bool any = false;
  for (const FoundSet& set : sets) any = any || closed(set);
  if (!any) return sets;
  sets.amend([&](FoundSet& set) {
    if (!closed(set)) return false;
    take_in(set);
    return true;
  });
  return sets;
}

std::string not_ours_text(const FoundSet& set) {
  return "set " + printable(set.folder.name) + " does not count: " + reason_text(*set.not_ours);
}

Error not_ours_error(const FoundSet& set) {
  if (set.not_ours == NotOurs::closed)
    return Error(ErrorKind::key,
                 "the passphrase at hand does not open point " + std::to_string(set.folder.sequence),
                 "only the one of before does; the point goes as the keep rules say");
  return Error(ErrorKind::wrong_drive, not_ours_text(set),
               "to look at it all the same, name its folder on the drive instead of the job");
}

std::vector<std::string> left_out_lines(const SetList& sets) {
  std::vector<std::string> lines;
  for (const FoundSet& set : sets) {
    if (set.not_ours && set.not_ours != NotOurs::closed) lines.push_back(not_ours_text(set));
  }
  return lines;
}

}  // namespace kestrum
