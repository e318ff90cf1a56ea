#include "archive/seal_json.hpp"

#include <algorithm>
#include <set>

#include "archive/chunk_types.hpp"
#include "base/text.hpp"

namespace kestrum {

JsonObject::JsonObject(JsonElement json, const std::string& what) : what_(what) {
  if (json.get(json_) != simdjson::SUCCESS) broken();
  here_ = json_.begin();
}

void JsonObject::broken() const {
  throw damage(what_ + " is damaged: its members are not as they must be");
}

JsonElement JsonObject::at(std::string_view name) const {
  // The next one, else the one asked for last, else any.
  auto found = here_;
  if (begun_ && found != json_.end()) ++found;
  begun_ = true;
  if (found == json_.end() || found.key() != name) {
    bool again = here_ != json_.end() && here_.key() == name;
    in_turn_ = in_turn_ && again;
    found = again ? here_ : json_.begin();
    while (found != json_.end() && found.key() != name) ++found;
  }
  if (found == json_.end()) broken();
  here_ = found;
  return found.value();
}

bool JsonObject::has(std::string_view name) const {
  return json_.at_key(name).error() == simdjson::SUCCESS;
}

std::uint64_t JsonObject::number(std::string_view name, std::uint64_t limit) const {
  std::uint64_t value = 0;
  if (at(name).get(value) != simdjson::SUCCESS || value > limit) broken();
  return value;
}

std::int64_t JsonObject::integer(std::string_view name) const {
  std::int64_t value = 0;
  if (at(name).get(value) != simdjson::SUCCESS) broken();
  return value;
}

bool JsonObject::boolean(std::string_view name) const {
  bool value = false;
  if (at(name).get(value) != simdjson::SUCCESS) broken();
  return value;
}

simdjson::dom::array JsonObject::array(std::string_view name) const {
  simdjson::dom::array value;
  if (at(name).get(value) != simdjson::SUCCESS) broken();
  return value;
}

std::string_view JsonObject::view(std::string_view name) const {
  std::string_view value;
  if (at(name).get(value) != simdjson::SUCCESS) broken();
  return value;
}

Bytes JsonObject::hex(std::string_view name) const {
  std::optional<Bytes> bytes = from_hex(view(name));
  if (!bytes) broken();
  return std::move(*bytes);
}

Instant JsonObject::instant(std::string_view name) const {
  std::optional<Instant> when = parse_utc(view(name));
  if (!when) broken();
  return *when;
}

void JsonObject::only(std::initializer_list<std::string_view> names) const {
  auto rest = here_;
  if (in_turn_ && begun_ && ++rest == json_.end()) return;
  for (auto [name, value] : json_) {
    if (std::find(names.begin(), names.end(), name) == names.end()) broken();
  }
}

JsonElement parse_json(std::string_view text, const std::string& what) {
  static thread_local simdjson::dom::parser parser;
  JsonElement root;
  if (parser.parse(text.data(), text.size()).get(root) != simdjson::SUCCESS)
    throw damage(what + " is damaged: it is no JSON");
  return root;
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

std::vector<KeyEntry> keys_from(JsonElement json, const std::string& what) {
  std::vector<KeyEntry> keys;
  simdjson::dom::array list;
  if (json.get(list) != simdjson::SUCCESS || list.size() > limits::key_entries)
    throw damage(what + " is damaged: its key entries");
  for (JsonElement item : list) {
    JsonObject object(item, what);
    KeyEntry entry;
    entry.id = object.hex_array<8>("id");
    std::string_view type = object.view("type");
    if (type == "passphrase") {
      entry.type = KeyEntryType::passphrase;
      if (object.view("kdf") != "argon2id") object.broken();
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

SaltedBox box_from(JsonElement json, const std::string& what) {
  JsonObject object(json, what);
  SaltedBox box{object.hex_array<32>("salt"), object.hex("box")};
  object.only({"salt", "box"});
  return box;
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
