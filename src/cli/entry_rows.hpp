// Entries of a point as rows of a table.
#pragma once

#include "archive/catalog_entry.hpp"
#include "cli/table.hpp"

namespace kestrum {

Table entry_table();
// `shown`: the name or the path to show.
std::vector<std::string> entry_row(const Entry& entry, const std::string& shown);

}  // namespace kestrum
