// What was mended of a set, or could be.
#pragma once

#include "archive/mending.hpp"

namespace kestrum {

struct MendedFile {
  std::string name;
  FileMending mending;
  std::string trouble;  // why its parity was of no use; else empty
  bool has_parity = false;
};

struct SetRepair {
  SetFacts facts;
  bool seals = false;             // one was damaged or missing, and is as the other
  std::vector<MendedFile> files;  // that did not read
  bool index = false;             // made anew from its volumes
  std::uint64_t pieces_lost = 0;  // of content, after that
  // Of them, taken again: from other sets of the same destination, from other destinations, from today's
  // files.
  std::uint64_t from_sets = 0, from_elsewhere = 0, from_sources = 0;
  std::uint64_t pieces_left() const { return pieces_lost - from_sets - from_elsewhere - from_sources; }
  std::size_t parity_made = 0;  // files that got parity, or other parity in the place of a damaged one
  bool any() const { return seals || index || !files.empty() || pieces_lost > 0 || parity_made > 0; }
};

}  // namespace kestrum
