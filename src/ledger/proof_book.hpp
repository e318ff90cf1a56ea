// What of which set was read back and found good, and when, by places. Never needed to restore.
#pragma once

#include <string>
#include <vector>

#include "base/set_facts.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

struct Proof {
  Stretch where;
  Instant when;
  // It was unpacked, and every piece has its name; else only: its bytes are those that were sealed.
  bool content = false;
};

class ProofBook {
 public:
  // Must outlive this.
  explicit ProofBook(Ledger& ledger) : database_(ledger.database()) {}
  // Throws Error where the ledger cannot be written. What lies wholly within them, and says no more, goes.
  void add(const Id& set, const std::vector<Proof>& proofs);
  // It does not read any more: what was proved of it is void.
  void take_back(const Id& set, const Stretch& where);
  // By slot and place. One list for each set, in the same order.
  std::vector<std::vector<Proof>> proofs(const std::vector<Id>& sets);

  // Checks of everything at one place that have begun and not come to their end, by a name for the place and
  // the way of checking. When it began; nothing where none has.
  std::optional<Instant> begun(const std::string& name);
  void begin(const std::string& name, Instant when);
  void end(const std::string& name);

 private:
  Database& database_;
};

}  // namespace kestrum
