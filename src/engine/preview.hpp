// A run that writes nothing: what would be copied, what it would take, and whether it would fit.
#pragma once

#include "engine/backup.hpp"
#include "engine/preview_tally.hpp"
#include "engine/size_estimate.hpp"
#include "plan/chain_plan.hpp"

namespace kestrum {

struct PreviewResult {
  std::string destination;
  DriveFacts drive;
  KindDecision next;  // the set that it would be
  Sequence sequence = 0;
  VerdictCounts all;
  std::uint64_t folders = 0, others = 0;  // others: links and the like
  std::uint64_t gone_files = 0;
  std::vector<NamedCounts> sources, categories, top_folders;
  std::vector<PreviewItem> largest;
  std::vector<LeftOutBy> left_out;

  SizeEstimate estimate;           // of the set, its parity among it
  std::uint64_t parity_bytes = 0;  // of it, as the best guess has it
  std::chrono::nanoseconds duration{};
  bool duration_from_history = false;  // else from the speed of the sample
  std::uint64_t full_bytes = 0;        // stored size of a full set: the last one's, or estimated
  std::uint64_t held_bytes = 0;        // stored size of the job's sets on the drive
  std::uint64_t free_bytes = 0, total_bytes = 0;
  // An old full goes only once the new one is complete: the drive must hold two, and what lies between. Where
  // each set is a full one, it must hold those that must stay besides the new one.
  unsigned fulls = 2;
  std::uint64_t needed_bytes() const { return fulls * full_bytes; }
  bool fulls_fit() const { return needed_bytes() <= free_bytes + held_bytes; }
  bool set_fits() const { return estimate.stored_bytes <= free_bytes; }
  // A run would find nothing to save, not even an empty folder.
  bool finds_nothing() const { return all.all().files + folders + others == 0; }
  // How a run would fail that this preview can foresee; nothing when it would make its point.
  std::optional<ErrorKind> would_fail() const;

  std::vector<Problem> problems;
  std::vector<std::string> notes;  // things to know before running
};

// Told of each file, and of what is left out, in the order of the walk (gone ones among them).
using OnPreviewItem = std::function<void(const PreviewItem&)>;

// Reads only the sample of the estimate; writes nothing to the destination. Throws Error as a run would for
// what it would refuse at its start.
PreviewResult preview_job(const std::string& name, std::optional<Kind> kind, const RunContext& context,
                          const OnPreviewItem& on_item = {});

// Which rule of the job decides about that path, without a walk.
Explanation preview_why(const std::string& name, const std::string& path, const RunContext& context);

}  // namespace kestrum
