#include "job/key_file.hpp"

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

// Says what is wrong at a place of the file, with the line and a mark under it.
class Places {
 public:
  Places(const std::string& file, const std::string& text) : file_(file), lines_(split(text, '\n')) {}

  [[noreturn]] void refuse(const toml::source_position& at, std::size_t width, const std::string& what,
                           const std::string& hint) const {
    std::string message =
        printable(file_) + ":" + std::to_string(at.line) + ":" + std::to_string(at.column) + ": " + what;
    if (at.line >= 1 && at.line <= lines_.size()) {
      std::string number = std::to_string(at.line);
      message += "\n  " + number + " | " + printable(lines_[at.line - 1]) + "\n  " +
                 std::string(number.size(), ' ') + " | " +
                 std::string(at.column > 0 ? at.column - 1 : 0, ' ') +
                 std::string(std::max<std::size_t>(width, 1), '^');
    }
    throw Error(ErrorKind::usage, message, hint);
  }

 private:
  std::string file_;
  std::vector<std::string> lines_;
};

std::size_t width_of(const toml::source_region& region) {
  return region.end.line == region.begin.line && region.end.column > region.begin.column
             ? region.end.column - region.begin.column
             : 1;
}

std::string suggestion(const std::string& word, const std::vector<std::string>& words,
                       const std::string& otherwise) {
  std::optional<std::string> near = nearest(word, words);
  return near ? "did you mean '" + *near + "'?" : otherwise + join(words, ", ");
}

// The text of one value: a string, or a number where a number is usual.
std::optional<std::string> value_text(const toml::node& node) {
  if (auto text = node.value_exact<std::string>()) return *text;
  if (auto number = node.value_exact<std::int64_t>()) return std::to_string(*number);
  return std::nullopt;
}

std::vector<std::string> values_of(const FileKey& key, const toml::node& node, const Places& places) {
  std::vector<std::string> values;
  std::string name = std::string("[") + key.table + "] " + key.key;
  if (const toml::array* list = node.as_array()) {
    if (!key.list)
      places.refuse(node.source().begin, width_of(node.source()), name + " takes one value, not a list",
                    "write it without the brackets");
    for (const toml::node& item : *list) {
      std::optional<std::string> text = item.value_exact<std::string>();
      if (!text)
        places.refuse(item.source().begin, width_of(item.source()), name + " takes texts in quotes",
                      "put quotes around it");
      values.push_back(*text);
    }
    return values;
  }
  if (std::optional<std::string> text = value_text(node)) return {*text};
  places.refuse(node.source().begin, width_of(node.source()), name + " takes a text in quotes",
                "put quotes around it");
}

std::vector<std::string> tables_of(const FileKeys& keys) {
  std::vector<std::string> tables;
  for (const FileKey* key : keys) {
    if (tables.empty() || tables.back() != key->table) tables.emplace_back(key->table);
  }
  return tables;
}

const FileKey& find_key(const FileKeys& keys, const std::string& table_name, const toml::key& written,
                        const Places& places) {
  const std::string name(written.str());
  std::vector<std::string> words;
  for (const FileKey* known : keys) {
    if (known->table != table_name) continue;
    if (known->key == name) return *known;
    words.emplace_back(known->key);
  }
  places.refuse(written.source().begin, name.size(),
                "there is no key '" + printable(name) + "' in [" + table_name + "]",
                suggestion(name, words, "the keys there are "));
}

void read_table(const toml::table& table, const std::string& table_name, const FileKeys& keys,
                const TakeKey& take, const Places& places, GivenValues& given) {
  for (auto&& [key_node, node] : table) {
    const FileKey& key = find_key(keys, table_name, key_node, places);
    std::vector<std::string> values = values_of(key, node, places);
    try {
      take(key, values);
    } catch (const Error& error) {
      places.refuse(node.source().begin, width_of(node.source()),
                    std::string("[") + key.table + "] " + key.key + ": " + error.what(), error.hint());
    }
    given[{table_name, key.key}] = std::move(values);
  }
}

}  // namespace

GivenValues read_key_file(const std::string& file, const std::string& text, const FileKeys& keys,
                          const TakeKey& take) {
  GivenValues given;
  const Places places(file, text);
  const std::vector<std::string> tables = tables_of(keys);
  toml::table document;
  try {
    document = toml::parse(text, file);
  } catch (const toml::parse_error& error) {
    places.refuse(error.source().begin, 1, "this is no valid TOML: " + std::string(error.description()),
                  "correct the line; what is written how is described in the guide");
  }
  for (auto&& [key_node, node] : document) {
    std::string table_name(key_node.str());
    const toml::table* table = node.as_table();
    if (std::find(tables.begin(), tables.end(), table_name) == tables.end()) {
      places.refuse(key_node.source().begin, table_name.size(),
                    std::string("there is no ") +
                        (table != nullptr ? "table [" + printable(table_name) + "]"
                                          : "key '" + printable(table_name) + "' outside of the tables"),
                    suggestion(table_name, tables, "the tables are "));
    }
    if (table == nullptr)
      places.refuse(key_node.source().begin, table_name.size(), "'" + table_name + "' is a table",
                    "write [" + table_name + "] on a line of its own");
    read_table(*table, table_name, keys, take, places, given);
  }
  return given;
}

const FileKey* find_option(const FileKeys& keys, const std::string& option) {
  for (const FileKey* key : keys) {
    if (key->option() == option) return key;
  }
  return nullptr;
}

}  // namespace kestrum
