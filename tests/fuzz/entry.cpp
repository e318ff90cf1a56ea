// One coverage-guided target: KESTRUM_FUZZ_TARGET of support/fuzz_targets. scripts/fuzz runs them.
#include "base/error.hpp"
#include "support/fuzz_targets.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const kestrum::test::FuzzTarget* const target = kestrum::test::fuzz_target(KESTRUM_FUZZ_TARGET);
  try {
    target->run({data, size});
  } catch (const kestrum::Error&) {
    // That it is refused is an answer.
  }
  return 0;
}
