#include "job/job_file.hpp"

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/job_keys.hpp"
#include "job/toml_text.hpp"

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

std::vector<std::string> values_of(const JobKey& key, const toml::node& node, const Places& places) {
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

void read_table(Job& job, const std::string& table_name, const toml::table& table, const Places& places) {
  for (auto&& [key_node, node] : table) {
    std::string key_name(key_node.str());
    const JobKey* key = find_job_key(table_name, key_name);
    if (key == nullptr) {
      std::vector<std::string> words;
      for (const JobKey& known : job_keys()) {
        if (known.table == table_name) words.emplace_back(known.key);
      }
      places.refuse(key_node.source().begin, key_name.size(),
                    "there is no key '" + printable(key_name) + "' in [" + table_name + "]",
                    suggestion(key_name, words, "the keys there are "));
    }
    std::vector<std::string> values = values_of(*key, node, places);
    try {
      key->set(job, values);
      job.given[{table_name, key_name}] = values;
    } catch (const Error& error) {
      places.refuse(node.source().begin, width_of(node.source()),
                    std::string("[") + key->table + "] " + key->key + ": " + error.what(), error.hint());
    }
  }
}

}  // namespace

Job parse_job(const std::string& name, const std::string& file, const std::string& text) {
  check_job_name(name);
  Job job;
  job.name = name;
  job.file = file;
  job.text = text;
  Places places(file, text);
  toml::table document;
  try {
    document = toml::parse(text, file);
  } catch (const toml::parse_error& error) {
    places.refuse(error.source().begin, 1, "this is no valid TOML: " + std::string(error.description()),
                  "correct the line; job files are described in the guide");
  }
  for (auto&& [key_node, node] : document) {
    std::string table_name(key_node.str());
    std::vector<std::string> tables = job_tables();
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
    read_table(job, table_name, *table, places);
  }
  try {
    check_job(job);
  } catch (const Error& error) {
    throw Error(ErrorKind::usage, printable(file) + ": " + error.what(), error.hint());
  }
  return job;
}

std::string job_text(const std::string& name, const JobValues& values) {
  Job job;
  job.name = name;
  check_job_name(name);
  std::string text = "# " + name + "\n";
  std::string table;
  for (const JobKey& key : job_keys()) {
    auto given = values.find({key.table, key.key});
    if (given == values.end()) continue;
    check_writable(key, given->second);
    try {
      key.set(job, given->second);
    } catch (const Error& error) {
      throw Error(ErrorKind::usage, "--" + key.option() + ": " + error.what(), error.hint());
    }
    if (table != key.table) {
      table = key.table;
      text += "[" + table + "]\n";
    }
    text += std::string(key.key) + " = " + toml_value(key, given->second) + "\n";
  }
  check_job(job);
  return text;
}

std::string define_command(const std::string& name, const JobValues& values) {
  std::string command = "kestrum job define " + shell_word(name);
  std::string table;
  std::size_t line = 0;  // columns of the last one
  for (const JobKey& key : job_keys()) {
    auto given = values.find({key.table, key.key});
    if (given == values.end()) continue;
    for (const std::string& value : given->second) {
      std::string option = " --" + key.option() + " " + shell_word(value);
      constexpr std::size_t widest = 96;
      if (table != key.table || line + option.size() > widest) {
        command += " \\\n   ";
        line = 3;
      }
      table = key.table;
      command += option;
      line += option.size();
    }
  }
  return command;
}

}  // namespace kestrum
