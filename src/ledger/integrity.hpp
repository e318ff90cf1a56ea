// Whether any SQLite database, not only our own, is whole.
#pragma once

#include <string>

namespace kestrum {

// What its own check finds wrong, the first of it; empty: nothing. Only reads the file, and nothing beside
// it.
std::string database_trouble(const std::string& path);

}  // namespace kestrum
