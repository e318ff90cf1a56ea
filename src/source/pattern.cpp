#include "source/pattern.hpp"

namespace kestrum {
namespace {

constexpr std::size_t none = std::string_view::npos;

// Matches `c` against the class that starts at pattern[at] == '['; sets `end` behind it. A '[' without its
// ']' is refused when rules are compiled; here it stands for itself.
bool class_matches(std::string_view pattern, std::size_t at, char c, std::size_t& end) {
  std::size_t i = at + 1;
  bool negated = i < pattern.size() && pattern[i] == '!';
  if (negated) ++i;
  bool found = false;
  for (bool first = true; i < pattern.size() && (pattern[i] != ']' || first); first = false) {
    auto low = static_cast<unsigned char>(pattern[i]);
    auto high = low;
    if (i + 2 < pattern.size() && pattern[i + 1] == '-' && pattern[i + 2] != ']') {
      high = static_cast<unsigned char>(pattern[i + 2]);
      i += 2;
    }
    auto byte = static_cast<unsigned char>(c);
    if (low <= byte && byte <= high) found = true;
    ++i;
  }
  if (i >= pattern.size()) {
    end = at + 1;
    return c == '[';
  }
  end = i + 1;
  return found != negated && c != '/';
}

}  // namespace

bool matches_pattern(std::string_view pattern, std::string_view text) {
  std::size_t p = 0;
  std::size_t t = 0;
  // Where to go on when what follows a star does not fit: the last `*`, and the last `**`, which may pass a
  // '/'.
  std::size_t star = none, star_text = 0;
  std::size_t deep = none, deep_text = 0;
  while (true) {
    if (p < pattern.size() && pattern[p] == '*') {
      bool is_deep = p + 1 < pattern.size() && pattern[p + 1] == '*';
      while (p < pattern.size() && pattern[p] == '*') ++p;
      if (is_deep) {
        if (p < pattern.size() && pattern[p] == '/' && (t == 0 || text[t - 1] == '/'))
          ++p;  // `**/` may be nothing
        deep = p;
        deep_text = t;
        star = none;
      } else {
        star = p;
        star_text = t;
      }
      continue;
    }
    if (p == pattern.size() && t == text.size()) return true;
    if (p < pattern.size() && t < text.size()) {
      std::size_t next = p + 1;
      bool fits = false;
      if (pattern[p] == '?') {
        fits = text[t] != '/';
      } else if (pattern[p] == '[') {
        fits = class_matches(pattern, p, text[t], next);
      } else if (pattern[p] == '\\' && p + 1 < pattern.size()) {
        fits = pattern[p + 1] == text[t];
        next = p + 2;
      } else {
        fits = pattern[p] == text[t];
      }
      if (fits) {
        p = next;
        ++t;
        continue;
      }
    }
    if (star != none && star_text < text.size() && text[star_text] != '/') {
      p = star;
      t = ++star_text;
    } else if (deep != none && deep_text < text.size()) {
      p = deep;
      t = ++deep_text;
      star = none;
    } else {
      return false;
    }
  }
}

bool may_match_below(std::string_view pattern, std::string_view folder) {
  while (!folder.empty()) {
    std::string_view wanted = pattern.substr(0, pattern.find('/'));
    if (wanted.find("**") != none) return true;
    std::string_view name = folder.substr(0, folder.find('/'));
    if (wanted.size() == pattern.size() || !matches_pattern(wanted, name)) return false;
    pattern.remove_prefix(wanted.size() + 1);
    folder.remove_prefix(name.size() + (name.size() < folder.size() ? 1 : 0));
  }
  return true;
}

}  // namespace kestrum
