// Conversions between the JSON of seals and their values. Only for the .cpp files of this folder: the JSON
// library stays out of the other headers.
#pragma once

#include <nlohmann/json.hpp>

#include "archive/seal.hpp"
#include "base/error.hpp"

namespace kestrum {

using Json = nlohmann::ordered_json;

// Reads members strictly: a missing or mistyped one is damage.
class JsonObject {
 public:
  JsonObject(const Json& json, const std::string& what);
  const Json& at(const char* name) const;
  std::uint64_t number(const char* name, std::uint64_t limit = UINT64_MAX) const;
  std::string text(const char* name) const;
  Bytes hex(const char* name) const;
  template <std::size_t N>
  std::array<std::uint8_t, N> hex_array(const char* name) const {
    Bytes bytes = hex(name);
    std::array<std::uint8_t, N> out{};
    if (bytes.size() != N) broken();
    std::copy(bytes.begin(), bytes.end(), out.begin());
    return out;
  }
  Instant instant(const char* name) const;
  void only(std::initializer_list<const char*> names) const;
  [[noreturn]] void broken() const;
  const std::string& what() const { return what_; }

 private:
  const Json& json_;
  std::string what_;
};

Json parse_json(const std::string& text, const std::string& what);
Json keys_json(const std::vector<KeyEntry>& keys);
std::vector<KeyEntry> keys_from(const Json& json, const std::string& what);
Json box_json(const SaltedBox& box);
SaltedBox box_from(const Json& json, const std::string& what);
// Throws when the document was written by something newer than this.
void check_format(const JsonObject& object);

}  // namespace kestrum
