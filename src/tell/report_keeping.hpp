// Report pages that jobs want kept up to date ([tell] page).
#pragma once

#include <string>
#include <vector>

#include "engine/run_context.hpp"

namespace kestrum {

// Makes them anew: of jobs that name the same place one of all of them. Returns what went wrong, one sentence
// each; `status` says so too until it goes well.
std::vector<std::string> keep_pages(const RunContext& context);

}  // namespace kestrum
