// The versions of files, as JSON.
#pragma once

#include <string>

#include "engine/disk_today.hpp"
#include "engine/version_history.hpp"

namespace kestrum {

// `more`: names that fit and are not listed.
std::string versions_document(const std::vector<LookSession>& subjects, const std::string& wanted,
                              const std::vector<FileHistory>& histories, std::uint64_t more, DiskToday& disk);

}  // namespace kestrum
