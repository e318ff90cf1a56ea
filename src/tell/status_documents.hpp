// How jobs stand, as JSON. For the files that make documents only: the JSON library is heavy.
#pragma once

#include "engine/status.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

Json job_status_json(const JobStatus& status, Instant now);

}  // namespace kestrum
