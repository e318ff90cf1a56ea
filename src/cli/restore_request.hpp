// What the options of a restore ask for.
#pragma once

#include "cli/arguments.hpp"
#include "engine/restore.hpp"

namespace kestrum {

// All throw Error of kind usage.
std::vector<PathMap> path_maps(const Arguments& arguments);  // of --map
RestoreRequest restore_request(const Arguments& arguments);

}  // namespace kestrum
