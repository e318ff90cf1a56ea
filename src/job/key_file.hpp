// Files of keys in tables (TOML 1.0), as people write them: job files, the machine's settings. Errors name
// file, line, column, what is wrong and the nearest right word.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <utility>
#include <vector>

namespace kestrum {

// A key that such a file may have; `[table] key` is option `--table-key`.
struct FileKey {
  const char* table;
  const char* key;
  bool list;             // takes several values
  const char* value;     // placeholder for help: "FOLDER"
  const char* fallback;  // what holds when it is not given, in words; "" when it is required
  const char* help;

  std::string option() const { return std::string(table) + "-" + key; }
};

using KeyValues = std::vector<std::string>;  // one text for keys that are no lists
// Values by (table, key), as they are written in a file or on a command line.
using GivenValues = std::map<std::pair<std::string, std::string>, KeyValues>;
// In the order of the table that they stand in; the keys of one table follow each other.
using FileKeys = std::vector<const FileKey*>;
template <typename Keys>
FileKeys file_keys_of(const Keys& keys) {
  FileKeys out;
  for (const auto& key : keys) out.push_back(&key);
  return out;
}
// Checks the values of a key and takes them over; throws Error of kind usage whose message needs no place.
using TakeKey = std::function<void(const FileKey& key, const KeyValues& values)>;

// `file`: for messages. Throws Error of kind usage.
GivenValues read_key_file(const std::string& file, const std::string& text, const FileKeys& keys,
                          const TakeKey& take);

// The key that option `--table-key` means; nullptr when there is none.
const FileKey* find_option(const FileKeys& keys, const std::string& option);

}  // namespace kestrum
