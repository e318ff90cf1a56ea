// Writing values as TOML.
#pragma once

#include <string>
#include <vector>

namespace kestrum {

struct FileKey;

std::string toml_quoted(const std::string& text);
// A text, or a list of them, as the key wants it.
std::string toml_value(const FileKey& key, const std::vector<std::string>& values);
// Such files are UTF-8 without control characters. Throws Error of kind usage that names the option.
void check_writable(const FileKey& key, const std::vector<std::string>& values);

}  // namespace kestrum
