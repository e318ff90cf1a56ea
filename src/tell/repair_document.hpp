// What repair did, as JSON: docs/JSON.md.
#pragma once

#include <string>
#include <vector>

#include "engine/repair.hpp"

namespace kestrum {

std::string repair_document(const std::string& job, bool dry, const std::vector<RepairResult>& results);

}  // namespace kestrum
