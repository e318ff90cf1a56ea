// The job files that the guide shows.
#pragma once

#include <string>

namespace kestrum::test {

std::string replaced(std::string text, const std::string& from, const std::string& to);

// The one in `guide` that begins with "# NAME"; empty when there is none.
std::string recipe(const std::string& guide, const std::string& name);

}  // namespace kestrum::test
