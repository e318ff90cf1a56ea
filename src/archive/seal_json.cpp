#include "archive/seal_json.hpp"

#include <algorithm>
#include <set>

#include "archive/chunk_types.hpp"
#include "base/text.hpp"

namespace kestrum {

JsonObject::JsonObject(const Json& json, const std::string& what) : json_(json), what_(what) {
  if (!json.is_object()) broken();
}

void JsonObject::broken() const {
  throw damage(what_ + " is damaged: its members are not as they must be");
}

const Json& JsonObject::at(const char* name) const {
  auto member = json_.find(name);
  if (member == json_.end()) broken();
  return *member;
}

std::uint64_t JsonObject::number(const char* name, std::uint64_t limit) const {
  const Json& value = at(name);
  if (!value.is_number_unsigned() || value.get<std::uint64_t>() > limit) broken();
  return value.get<std::uint64_t>();
}

std::string JsonObject::text(const char* name) const {
  const Json& value = at(name);
  if (!value.is_string()) broken();
  return value.get<std::string>();
}

Bytes JsonObject::hex(const char* name) const {
  std::optional<Bytes> bytes = from_hex(text(name));
  if (!bytes) broken();
  return *bytes;
}

Instant JsonObject::instant(const char* name) const {
  std::optional<Instant> when = parse_utc(text(name));
  if (!when) broken();
  return *when;
}

void JsonObject::only(std::initializer_list<const char*> names) const {
  for (const auto& [name, value] : json_.items()) {
    if (std::find(names.begin(), names.end(), name) == names.end()) broken();
  }
}

Json parse_json(const std::string& text, const std::string& what) {
  Json json = Json::parse(text, nullptr, false);
  if (json.is_discarded()) throw damage(what + " is damaged: it is no JSON");
  return json;
}

Json keys_json(const std::vector<KeyEntry>& keys) {
  Json list = Json::array();
  for (const KeyEntry& entry : keys) {
    Json json{{"id", to_hex(entry.id)}};
    switch (entry.type) {
      case KeyEntryType::passphrase:
        json["type"] = "passphrase";
        json["kdf"] = "argon2id";
        json["memory-kib"] = entry.cost.memory_kib;
        json["passes"] = entry.cost.passes;
        json["salt"] = to_hex(entry.salt);
        json["box"] = to_hex(entry.box);
        break;
      case KeyEntryType::recovery:
        json["type"] = "recovery";
        json["public"] = to_hex(entry.public_key);
        json["box"] = to_hex(entry.box);
        break;
      case KeyEntryType::clear:
        json["type"] = "clear";
        json["key"] = to_hex(entry.clear_key.view());
        break;
    }
    list.push_back(std::move(json));
  }
  return list;
}

std::vector<KeyEntry> keys_from(const Json& json, const std::string& what) {
  std::vector<KeyEntry> keys;
  if (!json.is_array() || json.size() > limits::key_entries)
    throw damage(what + " is damaged: its key entries");
  for (const Json& item : json) {
    JsonObject object(item, what);
    KeyEntry entry;
    entry.id = object.hex_array<8>("id");
    std::string type = object.text("type");
    if (type == "passphrase") {
      entry.type = KeyEntryType::passphrase;
      if (object.text("kdf") != "argon2id") object.broken();
      entry.cost.memory_kib = static_cast<std::uint32_t>(object.number("memory-kib", UINT32_MAX));
      entry.cost.passes = static_cast<std::uint32_t>(object.number("passes", UINT32_MAX));
      entry.salt = object.hex("salt");
      entry.box = object.hex("box");
    } else if (type == "recovery") {
      entry.type = KeyEntryType::recovery;
      entry.public_key = object.hex("public");
      entry.box = object.hex("box");
    } else if (type == "clear") {
      entry.type = KeyEntryType::clear;
      entry.clear_key = SecretKey(object.hex("key"));
    } else {
      continue;  // a way in that this version does not know: the others still open
    }
    keys.push_back(std::move(entry));
  }
  return keys;
}

Json box_json(const SaltedBox& box) {
  return {{"salt", to_hex(box.salt)}, {"box", to_hex(box.box)}};
}

SaltedBox box_from(const Json& json, const std::string& what) {
  JsonObject object(json, what);
  object.only({"salt", "box"});
  return {object.hex_array<32>("salt"), object.hex("box")};
}

void check_format(const JsonObject& object) {
  std::uint64_t format = object.number("format");
  if (format != 1) {
    throw Error(
        ErrorKind::failed,
        object.what() + " was written in format " + std::to_string(format) + "; this version knows format 1",
        "use a newer version of kestrum for this destination");
  }
}

}  // namespace kestrum
