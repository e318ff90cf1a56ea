// The words and options of one verb, on top of the argument library: messages that name the option, nearest
// words, help made from the same table.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace kestrum {

struct OptionSpec {
  std::string name;   // without dashes
  std::string value;  // placeholder; empty for a switch
  std::string help;
  bool list = false;  // may be given several times
  // When there are any, each value must be one of them: checked here, shown by the completion.
  std::vector<std::string> choices = {};
};

inline const OptionSpec json_option{"json", "", "print the result as JSON"};

struct VerbSpec {
  std::string name;     // "job define"
  std::string words;    // "NAME"
  std::string summary;  // one line
  std::string details;  // some lines, may be empty
  std::size_t min_words = 0;
  std::size_t max_words = 0;
  std::vector<OptionSpec> options;
  std::vector<std::string> examples;
};

class Arguments {
 public:
  // Throws Error of kind usage.
  Arguments(const VerbSpec& spec, const std::vector<std::string>& raw);
  bool any() const { return !values_.empty(); }
  bool has(const std::string& name) const { return values_.contains(name); }
  std::optional<std::string> value(const std::string& name) const;
  // A whole number. Throws Error of kind usage when it is none from `least` to `most`.
  std::optional<std::int64_t> number(const std::string& name, std::int64_t least, std::int64_t most) const;
  std::vector<std::string> values(const std::string& name) const;
  const std::vector<std::string>& words() const { return words_; }
  bool help() const { return has("help"); }

 private:
  std::map<std::string, std::vector<std::string>> values_;
  std::vector<std::string> words_;
};

std::string help_text(const VerbSpec& spec);

}  // namespace kestrum
