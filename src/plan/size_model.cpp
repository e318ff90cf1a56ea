#include "plan/size_model.hpp"

#include <algorithm>
#include <cmath>

namespace kestrum {
namespace {

double days_between(Instant a, Instant b) {
  return std::chrono::duration<double>(between(a, b)).count() / 86400;
}

// A set that holds what has changed since its base.
struct Changes {
  double days = 0;  // since then
  double bytes = 0;
};

std::vector<Changes> changes_of(const std::vector<KeptSet>& sets) {
  constexpr std::size_t enough = 60;  // of the newest
  std::vector<Changes> out;
  for (std::size_t i = sets.size(); i-- > 0 && out.size() < enough;) {
    const SetFacts& facts = sets[i].facts;
    if (facts.kind == Kind::full || facts.folded_from || !facts.base) continue;
    for (std::size_t k = i; k-- > 0;) {
      const SetFacts& base = sets[k].facts;
      if (base.sequence != *facts.base) continue;
      double span = days_between(base.started, facts.started);
      if (span > 0) out.push_back({span, static_cast<double>(facts.totals.stored_bytes)});
      break;
    }
  }
  return out;
}

// Stored bytes for each byte of content, by the sets that added some; 1 where none did.
double packing(const std::vector<KeptSet>& sets) {
  double stored = 0, content = 0;
  for (const KeptSet& set : sets) {
    if (set.facts.folded_from) continue;
    stored += static_cast<double>(set.facts.totals.stored_bytes);
    content += static_cast<double>(set.facts.totals.new_bytes);
  }
  return content > 0 ? std::min(stored / content, 1.0) : 1;
}

void take_fulls(SizeModel& model, const std::vector<KeptSet>& sets, const SetFacts& full) {
  auto content = [](const SetFacts& facts) { return static_cast<double>(facts.totals.bytes); };
  const SetFacts& first = sets.front().facts;
  const SetFacts& last = sets.back().facts;
  double stored = static_cast<double>(full.totals.stored_bytes);
  // A folded one may hold what is not needed any more.
  if (full.folded_from) stored = std::min(stored, content(full) * packing(sets));
  double a_byte = content(full) > 0 ? stored / content(full) : 1;
  model.full_bytes = static_cast<std::uint64_t>(content(full) > 0 ? content(last) * a_byte : stored);
  double lived = days_between(first.started, last.started);
  if (lived > 0.5) model.growth_a_day = std::max(0.0, (content(last) - content(first)) / lived * a_byte);
}

// Content that is new a day: what SizeModel::changed_bytes makes of it comes to what the sets hold.
void take_changes(SizeModel& model, const std::vector<Changes>& changes) {
  double least = 8192;  // a set in which nothing changed still takes its seal and a page or two
  for (const Changes& one : changes) least = std::min(least, one.bytes);
  model.least_bytes = static_cast<std::uint64_t>(least);
  const double all = static_cast<double>(std::max<std::uint64_t>(model.full_bytes, 1));
  double rates = 0, weights = 0;
  for (const Changes& one : changes) {
    double share = std::clamp((one.bytes - least) / all, 0.0, 0.98);
    double rate = -all * std::log(1 - share) / one.days;
    // Of sets that reach far back the first ones say most: later ones hold changes of the same files only
    // once.
    double weight = std::min(one.days, 1.0) * (1 - share);
    rates += rate * weight;
    weights += weight;
  }
  model.change_a_day = weights > 0 ? rates / weights : 0;
}

// Of files, as they are stored; of large ones about a chunk.
std::uint64_t item_of(const std::vector<KeptSet>& sets) {
  constexpr double chunk = 1 << 20;
  const SetTotals& totals = sets.back().facts.totals;
  if (totals.files == 0) return SizeModel().item_bytes;
  double file = static_cast<double>(totals.bytes) / static_cast<double>(totals.files);
  return static_cast<std::uint64_t>(std::clamp(std::min(file, chunk) * packing(sets), 64.0, chunk));
}

}  // namespace

std::uint64_t SizeModel::changed_bytes(double days) const {
  double all = static_cast<double>(std::max<std::uint64_t>(full_bytes, 1));
  double changed = all * (1 - std::exp(-change_a_day * std::max(days, 0.0) / all));
  return least_bytes + static_cast<std::uint64_t>(changed);
}

std::uint64_t SizeModel::full_after(double days) const {
  return full_bytes + static_cast<std::uint64_t>(growth_a_day * std::max(days, 0.0));
}

SizeModel size_model(const std::vector<KeptSet>& sets, std::uint64_t fallback_full) {
  SizeModel model;
  model.full_bytes = fallback_full;
  auto full = std::find_if(sets.rbegin(), sets.rend(),
                           [](const KeptSet& set) { return set.facts.kind == Kind::full; });
  model.full_assumed = full == sets.rend();
  if (!model.full_assumed) take_fulls(model, sets, full->facts);
  std::vector<Changes> changes = changes_of(sets);
  model.change_assumed = changes.empty();
  model.change_a_day = static_cast<double>(model.full_bytes) / 100;
  model.least_bytes = 8192;
  if (!model.change_assumed) take_changes(model, changes);
  if (!sets.empty()) model.item_bytes = item_of(sets);
  return model;
}

}  // namespace kestrum
