#include "plan/space_plan.hpp"

#include <algorithm>

namespace kestrum {
namespace {

constexpr std::size_t enough = 5;  // of the newest sets of a kind

}  // namespace

SpaceNeed space_need(Kind kind, const std::vector<ChainSet>& sets) {
  const SetTotals* full = nullptr;
  std::vector<std::uint64_t> alike;  // newest first
  for (std::size_t i = sets.size(); i-- > 0;) {
    const SetFacts& facts = sets[i].facts;
    if (facts.kind == Kind::full && full == nullptr) full = &facts.totals;
    if (facts.kind == kind && !facts.folded_from && alike.size() < enough)
      alike.push_back(facts.totals.stored_bytes);
  }
  if (kind == Kind::full && full != nullptr) {
    // As much larger as the sources have become since.
    double grown = full->bytes > 0 ? static_cast<double>(sets.back().facts.totals.bytes) /
                                         static_cast<double>(full->bytes)
                                   : 1;
    return {static_cast<std::uint64_t>(static_cast<double>(full->stored_bytes) * grown), true};
  }
  if (alike.empty()) return {};
  // Differentials grow until the next full; of incrementals one large one says little about the next.
  if (kind == Kind::differential) return {alike.front() + alike.front() / 10, false};
  std::nth_element(alike.begin(), alike.begin() + static_cast<std::ptrdiff_t>(alike.size() / 2), alike.end());
  return {alike[alike.size() / 2], false};
}

}  // namespace kestrum
