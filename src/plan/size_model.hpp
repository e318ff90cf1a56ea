// How large sets become, told from those there are.
#pragma once

#include "plan/keep_plan.hpp"

namespace kestrum {

// How large sets become, in bytes as stored.
struct SizeModel {
  std::uint64_t full_bytes = 0;   // a full set now
  double growth_a_day = 0;        // of full sets
  double change_a_day = 0;        // new content a day
  std::uint64_t least_bytes = 0;  // of a set in which nothing changed
  bool change_assumed = false;    // there is no history to tell it from
  bool full_assumed = false;
  std::uint64_t item_bytes = 256u << 10;  // what changes as one: a file, of large ones a chunk

  // Content that is new since `days` ago: what changes twice counts once.
  std::uint64_t changed_bytes(double days) const;
  std::uint64_t full_after(double days) const;
};

// From the sets there are. `fallback_full`: stored bytes of a first full set, when there is none yet.
SizeModel size_model(const std::vector<KeptSet>& sets, std::uint64_t fallback_full);

}  // namespace kestrum
