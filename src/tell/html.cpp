#include "tell/html.hpp"

#include "base/text.hpp"

namespace kestrum {

std::string html_text(std::string_view text) {
  std::string out;
  for (const char c : to_utf8(text)) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      case '\'':
        out += "&#39;";
        break;
      default: {
        const auto byte = static_cast<unsigned char>(c);
        if (byte >= 0x20 || c == '\n' || c == '\t') out += c;
      }
    }
  }
  return out;
}

}  // namespace kestrum
