// Whether a run of a job could write now, and where.
#pragma once

#include "engine/run_context.hpp"

namespace kestrum {

struct Reach {
  // The disks that it would write to, or the file systems where those are not known; of a drive that is still
  // to be attached the destination. Runs that share one of them follow each other.
  std::vector<std::string> into;
  std::optional<Error> trouble;  // nothing can be written to
  std::string drive;             // of the trouble, as the job names it

  // The drive is not there: it is waited for. Any other trouble is for the run to tell.
  bool is_away() const;
};
Reach reach_of(const Job& job, const RunContext& context);

}  // namespace kestrum
