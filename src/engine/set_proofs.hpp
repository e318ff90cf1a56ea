// What is known to have been read back of a set, and when.
#pragma once

#include <map>
#include <optional>
#include <vector>

#include "archive/seal.hpp"
#include "ledger/proof_book.hpp"

namespace kestrum {

// How much of a set was read back and found good.
struct ProvedShare {
  std::uint64_t bytes = 0, unpacked_bytes = 0;  // ever, as far as is known
  std::uint64_t all = 0;                        // in its files
  std::optional<Instant> oldest;                // of all of it, once all of it was
  // Rounded down, so that 100 is all of it.
  unsigned percent() const { return all == 0 ? 0 : static_cast<unsigned>(bytes * 100 / all); }
};

class SetProofs {
 public:
  SetProofs() = default;
  explicit SetProofs(const std::vector<Proof>& proofs);
  void add(const Proof& proof) { by_slot_[proof.where.slot].push_back(proof); }
  // Returns what was known of it.
  std::vector<Proof> take_back(const Stretch& stretch);
  bool any(const Stretch& stretch) const;
  // When the last byte of it was read that was read longest ago; nothing where some of it never was.
  // `content`: and unpacked.
  std::optional<Instant> since(const Stretch& stretch, bool content) const;
  // The same of all its files.
  std::optional<Instant> since(const SealCore& set, bool content) const;
  ProvedShare share(const SealCore& set) const;

 private:
  const std::vector<Proof>& of_file(std::uint32_t slot) const;
  std::map<std::uint32_t, std::vector<Proof>> by_slot_;
};

// The part of a file that frames lie in.
Stretch frames_of(const SealedFile& file);
// Of all its files, read as a whole.
std::vector<Proof> proofs_of(const SealCore& set, Instant when, bool content);

}  // namespace kestrum
