#include "engine/check_sample.hpp"

#include <algorithm>
#include <random>

#include "archive/set_check.hpp"

namespace kestrum {

CheckSample choose_sample(const std::vector<const FoundSet*>& sets, ChainReader& chain,
                          const CheckRound& round, const SampleWish& wish) {
  struct Part {
    std::optional<Instant> read;
    Id set;
    Stretch where;
  };
  std::vector<Part> parts;
  std::vector<Sequence> points;
  std::uint64_t all = 0, taken = 0;
  for (const FoundSet* set : sets) {
    if (!set->sealed()) continue;
    points.push_back(set->folder.sequence);
    try {
      const CheckOptions options;
      SetCheck check(chain.set(set->folder.sequence), options, CheckSample::stretch);
      for (const Stretch& where : check.stretches()) {
        std::optional<Instant> read;
        if (!wish.said) read = round.proofs(set->facts().set).since(where, true);
        parts.push_back({read, set->facts().set, where});
        all += where.size();
      }
    } catch (const Error&) {
      // It is told when it is checked.
    }
  }
  std::mt19937_64 random(wish.seed);
  std::shuffle(parts.begin(), parts.end(), random);
  std::stable_sort(parts.begin(), parts.end(), [](const Part& a, const Part& b) { return a.read < b.read; });
  CheckSample sample;
  for (const Part& part : parts) {
    if (taken * 100 >= all * wish.percent) break;
    taken += part.where.size();
    sample.parts[part.set].insert({part.where.slot, part.where.from});
  }
  if (!points.empty()) sample.lists = {points.back(), points[random() % points.size()]};
  return sample;
}

}  // namespace kestrum
