// Readers of what others may have written, each as a function of bytes: for coverage-guided fuzzing
// (tests/fuzz) and for the kept corpora, which every test run reads.
#pragma once

#include <span>
#include <string>

#include "base/bytes.hpp"

namespace kestrum::test {

struct FuzzTarget {
  const char* name;
  // Any Error is an answer; anything else is a fault.
  void (*run)(ByteView input);
};

std::span<const FuzzTarget> fuzz_targets();
// nullptr when there is none of that name.
const FuzzTarget* fuzz_target(const std::string& name);
// Inputs to begin with, of that target: things as the program itself writes them.
std::vector<Bytes> fuzz_seeds(const std::string& name);

}  // namespace kestrum::test
