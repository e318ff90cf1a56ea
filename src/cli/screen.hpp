// What standard output and standard error can show: how wide they are, and in which letters.
#pragma once

#include <cstddef>
#include <cstdio>
#include <string>
#include <string_view>

namespace kestrum {

struct Screen {
  std::size_t width = 0;  // columns; 0: as many as a line needs (a pipe, a file)
  bool utf8 = true;       // else ASCII only
  bool gone = false;      // nobody reads it any more
};
Screen& out_screen();
Screen& err_screen();
// Asks the terminals, COLUMNS (which holds for pipes too) and the locale's variables (POSIX: LC_ALL,
// LC_CTYPE, LANG, the first that is set).
void look_at_screens();

// Columns that a text takes in a terminal; colours take none.
std::size_t columns_of(std::string_view text);
// Its beginning, as far as it goes into so many columns; what is cut ends in "~".
std::string clipped(std::string_view text, std::size_t columns);
// Each line that is wider is broken at blanks, and goes on below where its last column of words began. A
// command at the end of a line stays whole. 0: nothing is broken.
std::string wrapped(std::string_view text, std::size_t width);
// Lines, bars and arrows in ASCII; other letters as \xNN, as `printable` writes bytes that are no letters.
std::string in_ascii(std::string_view text);

// For people: wrapped. Never throws; whoever reads our output may go away, and the work goes on.
void write_text(std::FILE* stream, std::string_view text);
// Tables and lists of names: not wrapped.
void write_lines(std::FILE* stream, std::string_view text);
// For programs: these very bytes.
void write_bytes(std::FILE* stream, std::string_view text);

}  // namespace kestrum
