// What a job says of how much of the machine may be taken, as a context of its own.
#pragma once

#include "base/pace.hpp"
#include "engine/run_context.hpp"

namespace kestrum {

class GentleContext {
 public:
  // Both must outlive it.
  GentleContext(const Job& job, const RunContext& context);
  GentleContext(const GentleContext&) = delete;
  GentleContext& operator=(const GentleContext&) = delete;
  // With fewer threads, and at the speeds that the job allows.
  const RunContext& context() const { return gentle_; }

 private:
  Pace reading_, writing_;
  RunContext gentle_;
};

}  // namespace kestrum
