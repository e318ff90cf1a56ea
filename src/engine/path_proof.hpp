// What counts of the sets at a path, where no job of this home says which are its own: docs/ARCHITECTURE.md,
// "Who may do what". Whoever can write a drive can put sets there; a way in that opens something tells them
// apart.
#pragma once

#include "engine/home.hpp"
#include "engine/own_sets.hpp"

namespace kestrum {

struct PathProof {
  const std::map<Id, Digest>* remembered =
      nullptr;                    // chains that a home knows of that very job; nullptr: none
  std::optional<Sequence> named;  // the set that the path leads to: it is meant
};

// Nothing encrypted there, or no way in at hand: the list stays as it is. Else what is not proved is left
// out. Proved is what a passphrase opens, or a key that is remembered, and was written with that key; what is
// opened otherwise and holds the same naming key, which nobody else can know; and a set without encryption
// that a proved one names as the one before it. A recovery key alone proves nothing: what it opens counts
// where all of that is of one origin. Throws Error of kind key: the way in opens nothing, or what a recovery
// key opens has several origins.
void prove_by_path(SetList& sets, KeyRing& keys, const PathProof& proof);

}  // namespace kestrum
