// The one table of exit codes (docs/EXIT-CODES.md says the same).
#pragma once

#include <optional>
#include <span>
#include <string_view>

#include "base/error.hpp"

namespace kestrum {

struct ExitCode {
  int code;
  std::string_view name;
  std::string_view meaning;
  int severity;  // of several results the highest is returned
};

std::span<const ExitCode> exit_codes();
int exit_code_of(ErrorKind kind);
inline constexpr int exit_done = 0;
inline constexpr int exit_problems = 1;
// The worse of two codes, by severity.
int worse_exit(int a, int b);

}  // namespace kestrum
