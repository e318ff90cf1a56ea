// How much of something a test does: little in a test run, more where the evidence tier asks for it.
#pragma once

#include <cstdlib>

namespace kestrum::test {

// The number that the environment gives under this name, or the usual one.
inline unsigned extent(const char* variable, unsigned usual) {
  const char* const wanted = std::getenv(variable);
  return wanted != nullptr ? static_cast<unsigned>(std::strtoul(wanted, nullptr, 10)) : usual;
}

}  // namespace kestrum::test
