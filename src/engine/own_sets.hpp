// Which of the sets that lie at a destination are the job's own: docs/ARCHITECTURE.md, "Who may do what".
// Whoever can write a drive can put sets there. In a job without encryption nothing tells them apart; in an
// encrypted one a set counts when it was written with a key that this machine remembers or that the
// passphrase opens. What does not count is left out of the list: nothing chooses, counts or removes it.
#pragma once

#include "archive/found_set.hpp"
#include "engine/home.hpp"

namespace kestrum {

struct OwnRules {
  bool encrypted = false;                            // the job
  const std::map<Id, Digest>* remembered = nullptr;  // chains and what tells their keys; nullptr: nothing
  std::string job = {};                              // its name, for what to do
  // Whether the history knows that set as made here; empty: it knows nothing.
  std::function<bool(const Id& set)> made_here = {};
  bool knows(const Id& chain) const { return remembered != nullptr && remembered->contains(chain); }
};

// Without a key: what anybody could have written, unless it is from before the job was encrypted, or from a
// time in between that the history knows; and, where this machine remembers chains, those that it does not.
void leave_out_by_form(SetList& sets, const OwnRules& rules);

// With the key: afterwards every set that counts was written with the key of its chain, as far as that is at
// hand. Chains that nobody remembers are taken in again when the passphrase opens them. In a job without
// encryption encrypted sets stay as they are, and no key is asked for.
enum class KeysWanted {
  newest,  // throws Error of kind key when nothing opens, or not the newest; the rest is left out
  some,    // what does not open is left out, even where nothing does
  as_far_as_they_open,  // a set that the key at hand does not open stays as it was
};
void prove(SetList& sets, KeyRing& keys, const OwnRules& rules, KeysWanted wanted);

// A seal from before the ways in were changed, put back: what has opened others of its chain proves it, and
// opens it from now on. False where nothing does.
bool opens_by_its_chain(const Seal& seal, KeyRing& keys);

// It counts for nothing from now on; its seal is kept aside.
void leave_out(FoundSet& set, NotOurs why);
// The list with those taken in that only lack their key (NotOurs::closed).
SetList with_closed(SetList sets);

// "set 000007_… is left out: …"; for a set that is not ours.
std::string not_ours_text(const FoundSet& set);
// The same as an error, for who asks for it: key or wrong_drive.
Error not_ours_error(const FoundSet& set);
// One line for each that is left out, but those that only lack their key.
std::vector<std::string> left_out_lines(const SetList& sets);

}  // namespace kestrum
