// How much of the machine a run takes: [how] effort.
#pragma once

#include <functional>

#include "job/job.hpp"

namespace kestrum {

// Threads that compress, of so many as there usually are. At least 1.
unsigned workers_for(Effort effort, unsigned usual);

// Does the work with that priority of processor and disk (nice(2), ioprio_set(2)), on a thread of its own, so
// that the caller's stays as it was; threads and processes that it starts have it too. Signals are taken by
// the working thread. Throws what the work throws. A priority that cannot be set is left as it is.
void with_effort(Effort effort, const std::function<void()>& work);

}  // namespace kestrum
