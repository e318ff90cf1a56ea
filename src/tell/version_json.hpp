// A version of a file, as the documents of several commands tell it.
#pragma once

#include "engine/disk_today.hpp"
#include "engine/version_search.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

Json version_json(const std::vector<LookSession>& subjects, const FoundVersion& version, Today today);

}  // namespace kestrum
