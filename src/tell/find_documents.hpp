// What searches find, as JSON.
#pragma once

#include <string>

#include "engine/disk_today.hpp"
#include "engine/version_search.hpp"

namespace kestrum {

// One version, and whether that is what is on the disk.
struct ListedVersion {
  FoundVersion version;
  Today today = Today::unknown;
};

// `more`: versions that were found and are not listed.
std::string find_everywhere_document(const std::vector<LookSession>& subjects, const std::string& pattern,
                                     const std::vector<ListedVersion>& versions, std::uint64_t more,
                                     const VersionSearch& search);
std::string find_document(const SetFacts& point, const std::string& pattern,
                          const std::vector<ListedVersion>& hits, std::uint64_t more);

}  // namespace kestrum
