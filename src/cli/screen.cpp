#include "cli/screen.hpp"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <charconv>
#include <cstdlib>
#include <cwchar>
#include <vector>

#include "base/text.hpp"

namespace kestrum {
namespace {

Screen screens[2];

Screen& screen_of(std::FILE* stream) {
  return screens[stream == stderr ? 1 : 0];
}

constexpr std::size_t narrowest = 40;

std::size_t width_of(int fd) {
  if (const char* columns = std::getenv("COLUMNS")) {
    std::string_view text(columns);
    std::size_t wanted = 0;
    auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), wanted);
    if (code == std::errc() && end == text.data() + text.size() && wanted >= narrowest) return wanted;
  }
  winsize size{};
  if (ioctl(fd, TIOCGWINSZ, &size) != 0) return 0;
  return size.ws_col >= narrowest ? size.ws_col : size.ws_col == 0 ? 80 : narrowest;
}

bool locale_is_utf8() {
  for (const char* name : {"LC_ALL", "LC_CTYPE", "LANG"}) {
    const char* value = std::getenv(name);
    if (value == nullptr || *value == '\0') continue;
    std::string lower(value);
    std::transform(lower.begin(), lower.end(), lower.begin(),
                   [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; });
    return lower.find("utf-8") != std::string::npos || lower.find("utf8") != std::string::npos;
  }
  return false;
}

// The letter that `text` begins with, and its columns.
std::pair<std::size_t, std::size_t> letter(std::string_view text) {
  if (text[0] == '\033') {  // a colour: up to its "m"
    std::size_t end = text.find('m');
    return {end == std::string_view::npos ? 1 : end + 1, 0};
  }
  if (static_cast<unsigned char>(text[0]) < 0x80) return {1, 1};
  std::mbstate_t state{};
  wchar_t wide = 0;
  std::size_t length = std::mbrtowc(&wide, text.data(), text.size(), &state);
  if (length == 0 || length > text.size()) return {1, 1};
  int columns = wcwidth(wide);
  return {length, columns < 0 ? 1 : static_cast<std::size_t>(columns)};
}

// Where words at the end begin that must not be broken: a command to be copied.
std::size_t command_at(std::string_view line) {
  if (std::size_t at = line.find(": kestrum "); at != std::string_view::npos) return at + 2;
  std::size_t blanks = std::min(line.find_first_not_of(' '), line.size());
  return line.substr(blanks).starts_with("kestrum ") ? blanks : line.size();
}

// Below which column a line goes on: that of its last column of words, if that leaves room.
std::size_t hang_of(std::string_view line, std::size_t width) {
  std::size_t indent = std::min(line.find_first_not_of(' '), line.size());
  std::size_t hang = std::min(indent + 2, width / 2);
  for (std::size_t gap = line.find("  ", indent); gap != std::string_view::npos;) {
    const std::size_t text = std::min(line.find_first_not_of(' ', gap), line.size());
    const std::size_t column = columns_of(line.substr(0, text));
    if (column > width / 3) break;
    hang = column;
    gap = line.find("  ", text);
  }
  return hang;
}

std::string wrapped_line(std::string_view line, std::size_t width) {
  if (columns_of(line) <= width) return std::string(line);
  const std::size_t hang = hang_of(line, width), command = command_at(line);
  const std::string below = "\n" + std::string(hang, ' ');
  std::string out;
  std::size_t used = 0, at = 0;
  bool begun = false;  // a word stands in this line
  while (at < line.size()) {
    std::size_t word = std::min(line.find_first_not_of(' ', at), line.size());
    std::size_t end = word >= command ? line.size() : std::min(line.find(' ', word), line.size());
    std::string_view blanks = line.substr(at, word - at), letters = line.substr(word, end - word);
    std::size_t wide = columns_of(letters);
    if (begun && used + blanks.size() + wide > width) {
      out += below;
      used = hang;
    } else {
      out += blanks;
      used += blanks.size();
    }
    out += letters;
    used += wide;
    begun = true;
    at = end;
  }
  return out;
}

constexpr std::array<std::pair<std::string_view, std::string_view>, 19> drawn{{{"█", "#"},
                                                                               {"▉", "="},
                                                                               {"▊", "="},
                                                                               {"▋", "="},
                                                                               {"▌", "="},
                                                                               {"▍", "-"},
                                                                               {"▎", "-"},
                                                                               {"▏", "-"},
                                                                               {"┌", "+"},
                                                                               {"├", "|"},
                                                                               {"└", "+"},
                                                                               {"│", "|"},
                                                                               {"─", "-"},
                                                                               {"→", "->"},
                                                                               {"…", "..."},
                                                                               {"–", "-"},
                                                                               {"’", "'"},
                                                                               {"×", "x"},
                                                                               {"·", "."}}};

void write(std::FILE* stream, std::string_view text) {
  errno = 0;
  if (std::fwrite(text.data(), 1, text.size(), stream) < text.size() && errno == EPIPE)
    screen_of(stream).gone = true;
}

}  // namespace

Screen& out_screen() {
  return screens[0];
}
Screen& err_screen() {
  return screens[1];
}

void look_at_screens() {
  screens[0] = {.width = width_of(STDOUT_FILENO), .utf8 = locale_is_utf8()};
  screens[1] = {.width = width_of(STDERR_FILENO), .utf8 = screens[0].utf8};
}

std::size_t columns_of(std::string_view text) {
  std::size_t columns = 0;
  while (!text.empty()) {
    auto [bytes, wide] = letter(text);
    columns += wide;
    text.remove_prefix(bytes);
  }
  return columns;
}

std::string clipped(std::string_view text, std::size_t columns) {
  if (columns_of(text) <= columns) return std::string(text);
  std::size_t used = 0, at = 0;
  while (at < text.size()) {
    auto [bytes, wide] = letter(text.substr(at));
    if (used + wide + 1 > columns) break;
    used += wide;
    at += bytes;
  }
  return std::string(text.substr(0, at)) + (columns > 0 ? "~" : "");
}

std::string wrapped(std::string_view text, std::size_t width) {
  if (width == 0) return std::string(text);
  std::string out;
  while (!text.empty()) {
    std::size_t end = text.find('\n');
    out += wrapped_line(text.substr(0, end), width);
    if (end == std::string_view::npos) break;
    out += '\n';
    text.remove_prefix(end + 1);
  }
  return out;
}

std::string in_ascii(std::string_view text) {
  std::string out;
  while (!text.empty()) {
    if (static_cast<unsigned char>(text[0]) < 0x80) {
      out += text[0];
      text.remove_prefix(1);
      continue;
    }
    auto known = std::find_if(drawn.begin(), drawn.end(),
                              [&](const auto& one) { return text.starts_with(one.first); });
    if (known != drawn.end()) {
      out += known->second;
      text.remove_prefix(known->first.size());
    } else {
      out += fmt::format("\\x{:02x}", static_cast<unsigned char>(text[0]));
      text.remove_prefix(1);
    }
  }
  return out;
}

void write_text(std::FILE* stream, std::string_view text) {
  const Screen& screen = screen_of(stream);
  write(stream, wrapped(screen.utf8 ? std::string(text) : in_ascii(text), screen.width));
}

void write_lines(std::FILE* stream, std::string_view text) {
  write(stream, screen_of(stream).utf8 ? std::string(text) : in_ascii(text));
}

void write_bytes(std::FILE* stream, std::string_view text) {
  write(stream, text);
}

}  // namespace kestrum
