// Printing that never throws: whoever reads our output may go away, and a run or a restore goes on all the
// same. Main asks at the end whether standard output took everything.
#pragma once

#include <fmt/format.h>

#include <cstdio>

namespace kestrum {

template <typename... T>
void out(fmt::format_string<T...> format, T&&... arguments) {
  std::string text = fmt::format(format, std::forward<T>(arguments)...);
  std::fwrite(text.data(), 1, text.size(), stdout);
}

template <typename... T>
void err(fmt::format_string<T...> format, T&&... arguments) {
  std::string text = fmt::format(format, std::forward<T>(arguments)...);
  std::fwrite(text.data(), 1, text.size(), stderr);
}

}  // namespace kestrum
