// Printing that never throws: whoever reads our output may go away, and a run or a restore goes on all the
// same. Main asks at the end whether standard output took everything.
#pragma once

#include <fmt/format.h>

#include "cli/screen.hpp"
#include "cli/table.hpp"

namespace kestrum {

// Words for people: wrapped to the width that is there.
template <typename... T>
void out(fmt::format_string<T...> format, T&&... arguments) {
  write_text(stdout, fmt::format(format, std::forward<T>(arguments)...));
}

// Names, one a line, and what was fitted already: as it is.
template <typename... T>
void out_lines(fmt::format_string<T...> format, T&&... arguments) {
  write_lines(stdout, fmt::format(format, std::forward<T>(arguments)...));
}

template <typename... T>
void err(fmt::format_string<T...> format, T&&... arguments) {
  write_text(stderr, fmt::format(format, std::forward<T>(arguments)...));
}

inline void print(const Table& table, const std::string& indent = "  ") {
  write_lines(stdout, table.text(indent, out_screen().width));
}

// One JSON document.
inline void print_document(const std::string& json) {
  write_bytes(stdout, json);
}

}  // namespace kestrum
