// A run that writes nothing: what would be copied, and whether it would fit.
#pragma once

#include "engine/backup.hpp"

namespace kestrum {

struct PreviewSource {
  std::string path;
  std::uint64_t files = 0;
  std::uint64_t bytes = 0;
};

struct PreviewResult {
  std::string destination;
  std::string kind;
  std::string reason;
  Sequence sequence = 0;
  std::vector<PreviewSource> sources;
  std::uint64_t files = 0, folders = 0, others = 0, bytes = 0;
  std::uint64_t new_files = 0, new_bytes = 0;
  std::uint64_t changed_files = 0, changed_bytes = 0;
  std::uint64_t held_files = 0, held_bytes = 0;
  std::uint64_t gone_files = 0;
  std::uint64_t free_bytes = 0, total_bytes = 0;
  std::vector<Problem> problems;
  std::vector<std::string> notes;  // things to know before running
};

// Opens no file of the sources, writes nothing to the destination. Throws Error as a run would for what it
// would refuse at its start.
PreviewResult preview_job(const std::string& name, std::optional<Kind> kind, const RunContext& context);

}  // namespace kestrum
