// Conversions between the JSON of seals and their values. Only for the .cpp files of this folder: the JSON
// libraries stay out of the other headers. Written with one that keeps the order of members, read with one
// that is some ten times faster: a destination of years has hundreds of seals, and each is read by every
// command.
#pragma once

#include <simdjson.h>

#include <nlohmann/json.hpp>

#include "archive/seal.hpp"
#include "base/error.hpp"

namespace kestrum {

using Json = nlohmann::ordered_json;         // to write
using JsonElement = simdjson::dom::element;  // read

// Reads members strictly: a missing or mistyped one is damage. Cheapest when they are asked for in the order
// in which they were written.
class JsonObject {
 public:
  JsonObject(JsonElement json, const std::string& what);
  JsonElement at(std::string_view name) const;
  bool has(std::string_view name) const;
  std::uint64_t number(std::string_view name, std::uint64_t limit = UINT64_MAX) const;
  std::string_view view(std::string_view name) const;  // of a text; good as long as the element
  std::string text(std::string_view name) const { return std::string(view(name)); }
  bool is_null(std::string_view name) const { return at(name).is_null(); }
  bool boolean(std::string_view name) const;
  std::int64_t integer(std::string_view name) const;
  simdjson::dom::array array(std::string_view name) const;
  Bytes hex(std::string_view name) const;
  template <std::size_t N>
  std::array<std::uint8_t, N> hex_array(std::string_view name) const {
    std::array<std::uint8_t, N> out{};
    if (!decode_hex(view(name), out)) broken();
    return out;
  }
  Instant instant(std::string_view name) const;
  // There are no members but these. Asked last it costs next to nothing: whoever took them one after the
  // other has seen them all.
  void only(std::initializer_list<std::string_view> names) const;
  [[noreturn]] void broken() const;
  const std::string& what() const { return what_; }

 private:
  simdjson::dom::object json_;
  mutable simdjson::dom::object::iterator here_;  // the member that was asked for last
  mutable bool begun_ = false;
  mutable bool in_turn_ = true;  // asked for from the first on, and none was passed over
  const std::string& what_;      // the caller's
};

// Damage when it is no JSON. Good until this thread parses the next one.
JsonElement parse_json(std::string_view text, const std::string& what);
Json keys_json(const std::vector<KeyEntry>& keys);
std::vector<KeyEntry> keys_from(JsonElement json, const std::string& what);
Json box_json(const SaltedBox& box);
SaltedBox box_from(JsonElement json, const std::string& what);
// Throws when the document was written by something newer than this.
void check_format(const JsonObject& object);

}  // namespace kestrum
