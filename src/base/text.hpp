// Text for people: escaping of file names, sizes and durations with units, nearest words.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace kestrum {

bool is_utf8(std::string_view bytes);
// Bytes of the character that `bytes` begins with; 0 when it begins with none.
std::size_t utf8_length(std::string_view bytes);

// A file name as it may be shown: what is not printable UTF-8 becomes \xNN, a newline \n, a backslash \\.
std::string printable(std::string_view bytes);

// What `printable` makes this of; what is no such escape stays as it is.
std::string from_printable(std::string_view text);

// Quoted where a POSIX shell would read it otherwise: to be copied into a command line. A file name must be
// made `printable` before.
std::string shell_word(std::string_view text);

// `bytes` with what is not UTF-8 replaced by U+FFFD.
std::string to_utf8(std::string_view bytes);

// "0 B", "512 B", "1.5 KiB", "23.4 GiB".
std::string size_text(std::uint64_t bytes);

// "512 B", "64 KiB", "1.5 GiB": a unit is required (B, KiB, MiB, GiB, TiB; KB, MB, GB, TB count as
// thousands).
std::optional<std::uint64_t> parse_size(std::string_view text);

// "0.4 s", "12 s", "3 min 20 s", "2 h 5 min", "3 days 4 h".
std::string duration_text(std::chrono::nanoseconds span);

// "1 file", "2 files": the plural is the singular with "s" unless given.
std::string count_text(std::uint64_t n, std::string_view singular, std::string_view plural = {});

// 12,345
std::string grouped(std::uint64_t n);

// "1, 2, 5 to 9": in order, three and more in a row as a range.
std::string sequences_text(std::vector<std::uint32_t> numbers);

// The word nearest to `word` (edit distance at most a third of its length, at least 2), if there is one.
std::optional<std::string> nearest(std::string_view word, std::span<const std::string> words);

// Up to `most` nearest of many, best first.
std::vector<std::string> nearest_few(std::string_view word, std::span<const std::string> words,
                                     std::size_t most);

// Edit distance with neighbouring letters swapped counting one; stops counting above `limit`.
std::size_t edit_distance(std::string_view a, std::string_view b, std::size_t limit);

std::string join(std::span<const std::string> parts, std::string_view separator);
std::vector<std::string> split(std::string_view text, char separator);
std::string_view trim(std::string_view text);

}  // namespace kestrum
