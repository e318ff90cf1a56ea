// What repair did, as JSON: docs/JSON.md.
#pragma once

#include <string>
#include <vector>

#include "engine/repair.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

Json mending_json(const SetRepair& set);
std::string repair_document(const std::string& job, bool dry, const std::vector<RepairResult>& results);

}  // namespace kestrum
