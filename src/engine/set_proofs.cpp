#include "engine/set_proofs.hpp"

#include <algorithm>

namespace kestrum {
namespace {

// Cut where any proof begins or ends: each piece is covered by a proof as a whole, or not at all. Proofs: of
// the same file.
std::vector<Stretch> pieces_of(const Stretch& stretch, const std::vector<Proof>& proofs) {
  std::vector<std::uint64_t> cuts{stretch.from, stretch.to};
  for (const Proof& proof : proofs) {
    for (std::uint64_t cut : {proof.where.from, proof.where.to}) {
      if (cut > stretch.from && cut < stretch.to) cuts.push_back(cut);
    }
  }
  std::sort(cuts.begin(), cuts.end());
  cuts.erase(std::unique(cuts.begin(), cuts.end()), cuts.end());
  std::vector<Stretch> pieces;
  for (std::size_t i = 1; i < cuts.size(); ++i) pieces.push_back({stretch.slot, cuts[i - 1], cuts[i]});
  return pieces;
}

std::optional<Instant> newest(const Stretch& piece, bool content, const std::vector<Proof>& proofs) {
  std::optional<Instant> when;
  for (const Proof& proof : proofs) {
    const Stretch& where = proof.where;
    const bool covers = where.from <= piece.from && where.to >= piece.to;
    if (covers && (proof.content || !content) && (!when || proof.when > *when)) when = proof.when;
  }
  return when;
}

}  // namespace

Stretch frames_of(const SealedFile& file) {
  return {file.slot, FileHeader::size, file.size};
}

std::vector<Proof> proofs_of(const SealCore& set, Instant when, bool content) {
  std::vector<Proof> proofs;
  for (const SealedFile& file : set.files) proofs.push_back({frames_of(file), when, content});
  return proofs;
}

SetProofs::SetProofs(const std::vector<Proof>& proofs) {
  for (const Proof& proof : proofs) add(proof);
}

static bool touches(const Stretch& one, const Stretch& other) {
  return one.from < other.to && one.to > other.from;
}

std::vector<Proof> SetProofs::take_back(const Stretch& stretch) {
  std::vector<Proof> taken;
  std::erase_if(by_slot_[stretch.slot], [&](const Proof& proof) {
    if (!touches(proof.where, stretch)) return false;
    taken.push_back(proof);
    return true;
  });
  return taken;
}

bool SetProofs::any(const Stretch& stretch) const {
  const std::vector<Proof>& proofs = of_file(stretch.slot);
  return std::any_of(proofs.begin(), proofs.end(),
                     [&](const Proof& proof) { return touches(proof.where, stretch); });
}

const std::vector<Proof>& SetProofs::of_file(std::uint32_t slot) const {
  static const std::vector<Proof> none;
  const auto found = by_slot_.find(slot);
  return found == by_slot_.end() ? none : found->second;
}

std::optional<Instant> SetProofs::since(const Stretch& stretch, bool content) const {
  const std::vector<Proof>& proofs = of_file(stretch.slot);
  std::optional<Instant> oldest;
  for (const Stretch& piece : pieces_of(stretch, proofs)) {
    const std::optional<Instant> when = newest(piece, content, proofs);
    if (!when) return std::nullopt;
    if (!oldest || *when < *oldest) oldest = when;
  }
  return oldest;
}

std::optional<Instant> SetProofs::since(const SealCore& set, bool content) const {
  std::optional<Instant> oldest;
  for (const SealedFile& file : set.files) {
    const std::optional<Instant> when = since(frames_of(file), content);
    if (!when) return std::nullopt;
    if (!oldest || *when < *oldest) oldest = when;
  }
  return oldest;
}

ProvedShare SetProofs::share(const SealCore& set) const {
  ProvedShare share;
  for (const SealedFile& file : set.files) {
    const std::vector<Proof>& proofs = of_file(file.slot);
    for (const Stretch& piece : pieces_of(frames_of(file), proofs)) {
      share.all += piece.size();
      if (!newest(piece, false, proofs)) continue;
      share.bytes += piece.size();
      if (newest(piece, true, proofs)) share.unpacked_bytes += piece.size();
    }
  }
  share.oldest = since(set, false);
  return share;
}

}  // namespace kestrum
