// A passphrase that lies with the sets that it opens keeps nobody out.
#pragma once

#include "job/job.hpp"

namespace kestrum {

// Whether the file with the job's passphrase lies at one of its destinations, as far as those are there.
// Links are followed.
bool passphrase_at_destination(const Job& job);
// Throws Error of kind usage when it does.
void refuse_passphrase_at_destination(const Job& job);

}  // namespace kestrum
