#include "job/toml_text.hpp"

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/key_file.hpp"

namespace kestrum {

std::string toml_quoted(const std::string& text) {
  std::string out = "\"";
  for (char c : text) {
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (c == '\n') {
      out += "\\n";
    } else if (c == '\t') {
      out += "\\t";
    } else {
      out += c;
    }
  }
  return out + "\"";
}

std::string toml_value(const FileKey& key, const std::vector<std::string>& values) {
  std::vector<std::string> parts;
  for (const std::string& value : values) parts.push_back(toml_quoted(value));
  return key.list ? "[" + join(parts, ", ") + "]" : parts.at(0);
}

void check_writable(const FileKey& key, const std::vector<std::string>& values) {
  for (const std::string& value : values) {
    std::string said = "--" + key.option() + ": ";
    if (!is_utf8(value))
      throw Error(ErrorKind::usage, said + "it is kept as UTF-8, and '" + printable(value) + "' is not",
                  "save the folder above it");
    for (unsigned char c : value) {
      if (c >= 0x20 && c != 0x7f) continue;
      throw Error(ErrorKind::usage, said + "'" + printable(value) + "' holds control characters",
                  "leave them out");
    }
  }
}

}  // namespace kestrum
