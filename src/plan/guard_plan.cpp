#include "plan/guard_plan.hpp"

#include <algorithm>

#include "base/text.hpp"

namespace kestrum {
namespace {

// Set on the simulated years of seeds 1 to 50 (scripts/test long guard).
constexpr std::uint64_t few = 5;           // files: whatever the job's size, less is no evidence
constexpr std::uint64_t one_in = 200;      // of all files, at least
constexpr std::uint64_t many = 50;         // files, where a share is looked at
constexpr double large_share = 0.3;        // of all files, gone or changed
constexpr double times_usual = 3;          // of the largest share in the job's history
constexpr std::size_t enough_history = 3;  // points, to know what is usual
constexpr double incompressible_from = 0.97, compressible_to = 0.75;
constexpr std::uint64_t enough_bytes = 1u << 20;

double share(std::uint64_t part, std::uint64_t whole) {
  return whole == 0 ? 0 : static_cast<double>(part) / static_cast<double>(whole);
}

double largest_share(const std::vector<SetTotals>& before, std::uint64_t SetTotals::*part) {
  double largest = 0;
  for (const SetTotals& totals : before)
    largest = std::max(largest, share(totals.*part, totals.files + totals.gone_files));
  return largest;
}

// What new content came to on the drive, in the middle of those before.
double usual_ratio(const std::vector<SetTotals>& before) {
  std::vector<double> ratios;
  for (const SetTotals& totals : before) {
    if (totals.new_bytes >= enough_bytes) ratios.push_back(share(totals.stored_bytes, totals.new_bytes));
  }
  if (ratios.size() < enough_history) return 1;
  std::nth_element(ratios.begin(), ratios.begin() + static_cast<std::ptrdiff_t>(ratios.size() / 2),
                   ratios.end());
  return ratios[ratios.size() / 2];
}

}  // namespace

std::vector<EvidenceLine> weigh_run(const GuardCounts& counts, const std::vector<SetTotals>& before) {
  std::vector<EvidenceLine> lines;
  const std::uint64_t least = std::max(few, counts.files_before / one_in);
  const auto say = [&](Evidence what, std::uint64_t files) { lines.push_back({what, files}); };
  if (counts.bait > 0) say(Evidence::bait, counts.bait);
  // As many of all that begin like noise as of those looked at.
  const auto heads_gone = static_cast<std::uint64_t>(
      static_cast<double>(counts.noise) * share(counts.heads_gone, counts.sampled) + 0.5);
  if (heads_gone >= least) say(Evidence::heads_gone, heads_gone);
  if (counts.renamed_noise >= least) say(Evidence::renamed, counts.renamed_noise);
  const std::uint64_t with_more = std::min(counts.renamed, counts.with_new_ending);
  if (with_more >= 2 * least && 10 * with_more >= 8 * counts.with_new_ending)
    lines.push_back({Evidence::new_ending, counts.with_new_ending, counts.new_ending});
  const std::uint64_t lost = counts.gone - std::min(counts.gone, counts.moved);
  const std::uint64_t replaced = std::min(lost, counts.added_noise);
  if (replaced >= 2 * least && 10 * replaced >= 5 * lost && lines.empty()) say(Evidence::replaced, replaced);
  if (counts.silent >= least) say(Evidence::silent, counts.silent);
  const auto stands_out = [&](std::uint64_t files, std::uint64_t SetTotals::*part) {
    return files >= many && before.size() >= enough_history &&
           share(files, counts.files_before) >=
               std::max(large_share, std::min(0.9, times_usual * largest_share(before, part)));
  };
  if (stands_out(lost, &SetTotals::gone_files)) say(Evidence::gone, lost);
  const bool much = stands_out(counts.changed, &SetTotals::changed_files);
  if (much) say(Evidence::changed, counts.changed);
  const bool dense = counts.new_bytes >= enough_bytes &&
                     share(counts.stored_bytes, counts.new_bytes) >= incompressible_from &&
                     usual_ratio(before) <= compressible_to;
  if (dense && counts.changed + lost >= std::max(many, counts.files_before / 20) && counts.noise >= few)
    say(Evidence::incompressible, counts.changed);
  return lines;
}

static constexpr const char* evidence_names[] = {
    "bait", "heads-gone", "renamed", "new-ending", "replaced", "silent", "gone", "changed", "incompressible"};

const char* evidence_name(Evidence what) {
  return evidence_names[static_cast<std::size_t>(what)];
}

std::optional<Evidence> parse_evidence(std::string_view name) {
  const auto found = std::find(std::begin(evidence_names), std::end(evidence_names), name);
  if (found == std::end(evidence_names)) return std::nullopt;
  return static_cast<Evidence>(found - std::begin(evidence_names));
}

std::string evidence_text(const EvidenceLine& line) {
  const std::string files = count_text(line.files, "file");
  const bool one = line.files == 1;
  switch (line.what) {
    case Evidence::bait:
      return count_text(line.files, "bait file") + (one ? " was" : " were") + " changed or removed";
    case Evidence::heads_gone:
      return files + (one ? " does not begin as it" : " do not begin as they") +
             " did: they look encrypted or overwritten";
    case Evidence::renamed:
      return files + " became another of a longer name that looks encrypted";
    case Evidence::new_ending:
      return files + " have names that end in '" + printable(line.ending) +
             "', which none had before, in place of files that are gone";
    case Evidence::replaced:
      return files + (one ? " is" : " are") + " gone, and as many new ones look encrypted";
    case Evidence::silent:
      return files + (one ? " has" : " have") + " another content behind the same size and time";
    case Evidence::gone:
      return files + (one ? " is" : " are") + " gone, far more than ever before";
    case Evidence::changed:
      return files + (one ? " is" : " are") + " changed, far more than ever before";
    case Evidence::incompressible:
      return "what " + files + " hold now does not shrink as what this job saves does otherwise";
  }
  return {};
}

}  // namespace kestrum
