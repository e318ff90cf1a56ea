// Entries of a point as rows of a table.
#pragma once

#include "archive/catalog_entry.hpp"
#include "cli/table.hpp"
#include "engine/disk_today.hpp"

namespace kestrum {

Table entry_table();
// `shown`: the name or the path to show. `below`: bytes of all that is in a folder.
std::vector<std::string> entry_row(const Entry& entry, const std::string& shown, Today today = Today::unknown,
                                   std::optional<std::uint64_t> below = {});

}  // namespace kestrum
