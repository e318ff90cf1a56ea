#include "base/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace kestrum {
namespace {

// Length of the valid UTF-8 sequence at the start of `in`, 0 when there is none.
std::size_t sequence_length(std::string_view in, std::uint32_t& code) {
  auto byte = [&](std::size_t i) { return static_cast<std::uint8_t>(in[i]); };
  std::uint8_t first = byte(0);
  std::size_t length = first < 0x80                    ? 1
                       : first >= 0xc2 && first < 0xe0 ? 2
                       : first >= 0xe0 && first < 0xf0 ? 3
                       : first >= 0xf0 && first < 0xf5 ? 4
                                                       : 0;
  if (length == 0 || in.size() < length) return 0;
  static constexpr std::array<std::uint8_t, 5> masks{0, 0x7f, 0x1f, 0x0f, 0x07};
  code = first & masks[length];
  for (std::size_t i = 1; i < length; ++i) {
    if ((byte(i) & 0xc0) != 0x80) return 0;
    code = code << 6 | (byte(i) & 0x3f);
  }
  if (length == 3 && (code < 0x800 || (code >= 0xd800 && code < 0xe000))) return 0;
  if (length == 4 && (code < 0x10000 || code > 0x10ffff)) return 0;
  return length;
}

bool shown_as_is(std::uint32_t code) {
  bool control = code < 0x20 || (code >= 0x7f && code < 0xa0);
  bool bidi = (code >= 0x200b && code <= 0x200f) || (code >= 0x2028 && code <= 0x202e) ||
              (code >= 0x2060 && code <= 0x2069) || code == 0xfeff;
  return !control && !bidi && code != '\\';
}

}  // namespace

std::size_t utf8_length(std::string_view bytes) {
  std::uint32_t code = 0;
  return bytes.empty() ? 0 : sequence_length(bytes, code);
}

bool is_utf8(std::string_view bytes) {
  std::uint32_t code = 0;
  while (!bytes.empty()) {
    std::size_t length = sequence_length(bytes, code);
    if (length == 0) return false;
    bytes.remove_prefix(length);
  }
  return true;
}

std::string printable(std::string_view bytes) {
  // Nearly all names are plain ASCII.
  bool plain =
      std::all_of(bytes.begin(), bytes.end(), [](char c) { return c >= ' ' && c <= '~' && c != '\\'; });
  if (plain) return std::string(bytes);
  std::string out;
  std::uint32_t code = 0;
  while (!bytes.empty()) {
    std::size_t length = sequence_length(bytes, code);
    if (length != 0 && shown_as_is(code)) {
      out += bytes.substr(0, length);
    } else if (bytes[0] == '\n') {
      out += "\\n";
    } else if (bytes[0] == '\\') {
      out += "\\\\";
    } else {
      for (char c : bytes.substr(0, std::max<std::size_t>(length, 1))) {
        out += fmt::format("\\x{:02x}", static_cast<std::uint8_t>(c));
      }
    }
    bytes.remove_prefix(std::max<std::size_t>(length, 1));
  }
  return out;
}

std::string from_printable(std::string_view text) {
  std::string out;
  const auto digit = [&](std::size_t at) {
    constexpr std::string_view digits = "0123456789abcdef";
    return at < text.size() ? digits.find(text[at]) : std::string_view::npos;
  };
  for (std::size_t at = 0; at < text.size(); ++at) {
    const char next = text[at] == '\\' && at + 1 < text.size() ? text[at + 1] : '\0';
    const std::size_t high = next == 'x' ? digit(at + 2) : std::string_view::npos;
    const std::size_t low = high != std::string_view::npos ? digit(at + 3) : std::string_view::npos;
    if (next == '\\' || next == 'n') {
      out += next == 'n' ? '\n' : '\\';
      at += 1;
    } else if (low != std::string_view::npos) {
      out += static_cast<char>(high * 16 + low);
      at += 3;
    } else {
      out += text[at];
    }
  }
  return out;
}

std::string shell_word(std::string_view text) {
  constexpr const char* plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./:=%+,@";
  if (!text.empty() && text.find_first_not_of(plain) == std::string_view::npos) return std::string(text);
  std::string out = "'";
  for (char c : text) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return out + "'";
}

std::string to_utf8(std::string_view bytes) {
  std::string out;
  std::uint32_t code = 0;
  while (!bytes.empty()) {
    std::size_t length = sequence_length(bytes, code);
    if (length == 0) {
      out += "\xef\xbf\xbd";
    } else {
      out += bytes.substr(0, length);
    }
    bytes.remove_prefix(std::max<std::size_t>(length, 1));
  }
  return out;
}

std::string size_text(std::uint64_t bytes) {
  static constexpr std::array units{"KiB", "MiB", "GiB", "TiB", "PiB"};
  if (bytes < 1024) return fmt::format("{} B", bytes);
  double value = static_cast<double>(bytes);
  std::size_t unit = 0;
  value /= 1024;
  while (value >= 1023.95 && unit + 1 < units.size()) {
    value /= 1024;
    ++unit;
  }
  return fmt::format("{:.1f} {}", value, units[unit]);
}

std::optional<std::uint64_t> parse_size(std::string_view text) {
  text = trim(text);
  std::size_t digits = text.find_first_not_of("0123456789.");
  if (digits == 0 || digits == std::string_view::npos) return std::nullopt;
  std::string number(text.substr(0, digits));
  if (std::count(number.begin(), number.end(), '.') > 1 || number == ".") return std::nullopt;
  std::string_view unit = trim(text.substr(digits));
  static constexpr std::array<std::pair<std::string_view, double>, 9> units{{{"B", 1.0},
                                                                             {"KiB", 0x1p10},
                                                                             {"MiB", 0x1p20},
                                                                             {"GiB", 0x1p30},
                                                                             {"TiB", 0x1p40},
                                                                             {"KB", 1e3},
                                                                             {"MB", 1e6},
                                                                             {"GB", 1e9},
                                                                             {"TB", 1e12}}};
  for (auto [name, factor] : units) {
    if (unit != name) continue;
    double value = std::stod(number) * factor;
    if (value >= 0x1p63) return std::nullopt;
    return static_cast<std::uint64_t>(std::llround(value));
  }
  return std::nullopt;
}

std::string duration_text(std::chrono::nanoseconds span) {
  double seconds = std::chrono::duration<double>(span).count();
  if (seconds < 9.95) return fmt::format("{:.1f} s", std::max(seconds, 0.0));
  auto whole = static_cast<std::uint64_t>(std::llround(seconds));
  if (whole < 60) return fmt::format("{} s", whole);
  if (whole < 3600) return fmt::format("{} min {} s", whole / 60, whole % 60);
  if (whole < 86400) return fmt::format("{} h {} min", whole / 3600, whole % 3600 / 60);
  return fmt::format("{} {} h", count_text(whole / 86400, "day"), whole % 86400 / 3600);
}

std::string grouped(std::uint64_t n) {
  std::string digits = std::to_string(n);
  for (std::size_t i = digits.size(); i > 3;) digits.insert(i -= 3, ",");
  return digits;
}

std::string count_text(std::uint64_t n, std::string_view singular, std::string_view plural) {
  std::string word = n == 1            ? std::string(singular)
                     : !plural.empty() ? std::string(plural)
                                       : std::string(singular) + "s";
  return grouped(n) + " " + word;
}

std::size_t edit_distance(std::string_view a, std::string_view b, std::size_t limit) {
  if (a.size() > b.size() + limit || b.size() > a.size() + limit) return limit + 1;
  std::vector<std::size_t> before(b.size() + 1), last(b.size() + 1), now(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) last[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    now[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      std::size_t change = a[i - 1] == b[j - 1] ? 0 : 1;
      now[j] = std::min({last[j] + 1, now[j - 1] + 1, last[j - 1] + change});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        now[j] = std::min(now[j], before[j - 2] + 1);
    }
    std::swap(before, last);
    std::swap(last, now);
  }
  return last[b.size()];
}

std::vector<std::string> nearest_few(std::string_view word, std::span<const std::string> words,
                                     std::size_t most) {
  std::size_t limit = std::max<std::size_t>(2, word.size() / 3);
  std::vector<std::pair<std::size_t, std::string>> found;
  for (const std::string& candidate : words) {
    std::size_t distance = edit_distance(word, candidate, limit);
    if (distance <= limit) found.emplace_back(distance, candidate);
  }
  std::sort(found.begin(), found.end());
  std::vector<std::string> out;
  for (std::size_t i = 0; i < found.size() && i < most; ++i) out.push_back(found[i].second);
  return out;
}

std::optional<std::string> nearest(std::string_view word, std::span<const std::string> words) {
  std::vector<std::string> found = nearest_few(word, words, 1);
  return found.empty() ? std::nullopt : std::optional(found.front());
}

std::string sequences_text(std::vector<std::uint32_t> numbers) {
  std::sort(numbers.begin(), numbers.end());
  std::vector<std::string> parts;
  for (std::size_t i = 0; i < numbers.size();) {
    std::size_t last = i;
    while (last + 1 < numbers.size() && numbers[last + 1] == numbers[last] + 1) ++last;
    if (last - i < 2) last = i;
    std::string part = std::to_string(numbers[i]);
    parts.push_back(last == i ? part : part + " to " + std::to_string(numbers[last]));
    i = last + 1;
  }
  return join(parts, ", ");
}

std::string join(std::span<const std::string> parts, std::string_view separator) {
  return fmt::format("{}", fmt::join(parts, separator));
}

std::vector<std::string> split(std::string_view text, char separator) {
  std::vector<std::string> parts;
  while (true) {
    std::size_t end = text.find(separator);
    parts.emplace_back(text.substr(0, end));
    if (end == std::string_view::npos) return parts;
    text.remove_prefix(end + 1);
  }
}

std::string_view trim(std::string_view text) {
  std::size_t begin = text.find_first_not_of(" \t\r\n");
  if (begin == std::string_view::npos) return {};
  return text.substr(begin, text.find_last_not_of(" \t\r\n") - begin + 1);
}

}  // namespace kestrum
