// The two documents that a set carries about its run, as JSON: docs/FORMAT.md section 7.
#pragma once

#include "base/observer.hpp"
#include "plan/guard_plan.hpp"
#include "source/filesystem_table.hpp"
#include "source/walker.hpp"

namespace kestrum {

struct RunRecord {
  std::string program;
  std::vector<std::string> sources;
  std::vector<Filesystem> filesystems;
  std::string kind_reason;
  bool simulated = false;
  // Of a run that stood out: what did, and some of the files.
  std::vector<EvidenceLine> evidence = {};
  std::vector<std::string> examples = {};
};

Bytes encode_run_record(const RunRecord& record);
// Throws Error of kind damage.
RunRecord decode_run_record(ByteView bytes);
// One JSON object a line.
Bytes encode_problems(const std::vector<Problem>& problems);
// Throws Error of kind damage.
std::vector<Problem> decode_problems(ByteView bytes);

}  // namespace kestrum
