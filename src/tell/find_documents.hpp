// What a search found, as JSON: docs/JSON.md.
#pragma once

#include "engine/version_search.hpp"

namespace kestrum {

std::string find_document(const SetFacts& point, const std::string& pattern, const std::vector<Entry>& hits);
// Through all points; `subjects` are those that were searched.
std::string versions_document(const std::vector<LookSession>& subjects, const std::string& pattern,
                              const VersionSearch& search);

}  // namespace kestrum
