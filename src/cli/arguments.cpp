#include "cli/arguments.hpp"

#include <algorithm>
#include <charconv>
#include <cxxopts.hpp>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

const OptionSpec* find_option(const VerbSpec& spec, const std::string& name) {
  for (const OptionSpec& option : spec.options) {
    if (option.name == name) return &option;
  }
  return nullptr;
}

// What the library does not tell well: unknown options, values forgotten or given to a switch.
void check_raw(const VerbSpec& spec, const std::vector<std::string>& raw) {
  std::string see = "see: kestrum help " + spec.name;
  for (std::size_t i = 0; i < raw.size(); ++i) {
    const std::string& token = raw[i];
    if (token == "--") return;
    if (token == "-h") continue;
    if (token.size() < 2 || token[0] != '-') continue;
    if (!token.starts_with("--"))
      throw Error(ErrorKind::usage, "'" + printable(token) + "' is no option: options have two dashes", see);
    std::size_t equals = token.find('=');
    std::string name = token.substr(2, equals == std::string::npos ? std::string::npos : equals - 2);
    if (name == "help") continue;
    const OptionSpec* option = find_option(spec, name);
    if (option == nullptr) {
      std::vector<std::string> names;
      for (const OptionSpec& known : spec.options) names.push_back(known.name);
      std::optional<std::string> near = nearest(name, names);
      throw Error(ErrorKind::usage, "'" + spec.name + "' has no option --" + printable(name),
                  near ? "did you mean --" + *near + "?" : see);
    }
    if (option->value.empty() && equals != std::string::npos)
      throw Error(ErrorKind::usage, "--" + name + " takes no value", see);
    if (option->value.empty() || equals != std::string::npos) continue;
    if (i + 1 >= raw.size() || raw[i + 1].starts_with("--"))
      throw Error(ErrorKind::usage, "--" + name + " needs a value: --" + name + " " + option->value, see);
    ++i;
  }
}

}  // namespace

namespace {

void check_choices(const OptionSpec& option, const std::vector<std::string>& values) {
  if (option.choices.empty()) return;
  for (const std::string& value : values) {
    if (std::find(option.choices.begin(), option.choices.end(), value) != option.choices.end()) continue;
    std::optional<std::string> near = nearest(value, option.choices);
    throw Error(
        ErrorKind::usage,
        "--" + option.name + " '" + printable(value) + "' is not one of " + join(option.choices, ", "),
        near ? "did you mean '" + *near + "'?" : "write one of them");
  }
}

}  // namespace

Arguments::Arguments(const VerbSpec& spec, const std::vector<std::string>& raw) {
  check_raw(spec, raw);
  cxxopts::Options parser("kestrum " + spec.name);
  parser.add_options()("h,help", "");
  for (const OptionSpec& option : spec.options) {
    if (option.value.empty()) {
      parser.add_options()(option.name, "");
    } else {
      parser.add_options()(option.name, "", cxxopts::value<std::vector<std::string>>());
    }
  }
  parser.add_options()("words", "", cxxopts::value<std::vector<std::string>>());
  parser.parse_positional({"words"});
  std::vector<const char*> argv{"kestrum"};
  for (const std::string& token : raw) argv.push_back(token.c_str());
  try {
    cxxopts::ParseResult parsed = parser.parse(static_cast<int>(argv.size()), argv.data());
    if (parsed.count("help") != 0) values_["help"];
    for (const OptionSpec& option : spec.options) {
      if (parsed.count(option.name) == 0) continue;
      values_[option.name] = option.value.empty() ? std::vector<std::string>{}
                                                  : parsed[option.name].as<std::vector<std::string>>();
      if (!option.list && values_[option.name].size() > 1) {
        throw Error(ErrorKind::usage, "--" + option.name + " is given twice", "give it once");
      }
      check_choices(option, values_[option.name]);
    }
    if (parsed.count("words") != 0) words_ = parsed["words"].as<std::vector<std::string>>();
  } catch (const cxxopts::exceptions::exception& error) {
    throw Error(ErrorKind::usage, error.what(), "see: kestrum help " + spec.name);
  }
  if (help()) return;
  if (words_.size() < spec.min_words)
    throw Error(ErrorKind::usage, "'" + spec.name + "' needs " + spec.words,
                "see: kestrum help " + spec.name);
  if (words_.size() > spec.max_words) {
    throw Error(ErrorKind::usage,
                "'" + printable(words_[spec.max_words]) + "' is one word too many for '" + spec.name + "'",
                "see: kestrum help " + spec.name);
  }
}

std::optional<std::string> Arguments::value(const std::string& name) const {
  auto found = values_.find(name);
  if (found == values_.end() || found->second.empty()) return std::nullopt;
  return found->second.front();
}

std::optional<std::int64_t> Arguments::number(const std::string& name, std::int64_t least,
                                              std::int64_t most) const {
  const std::optional<std::string> text = value(name);
  if (!text) return std::nullopt;
  std::int64_t number = 0;
  auto [end, code] = std::from_chars(text->data(), text->data() + text->size(), number);
  if (code != std::errc() || end != text->data() + text->size() || number < least || number > most)
    throw Error(ErrorKind::usage,
                "--" + name + " '" + printable(*text) + "' is not a number from " + std::to_string(least) +
                    " to " + std::to_string(most),
                "write it like --" + name + " " + std::to_string(std::max<std::int64_t>(least, 1)));
  return number;
}

std::vector<std::string> Arguments::values(const std::string& name) const {
  auto found = values_.find(name);
  return found == values_.end() ? std::vector<std::string>{} : found->second;
}

// Sentences that are broken in the code are broken by the screen instead.
static std::string unbroken(std::string text) {
  for (std::size_t at = 1; at < text.size(); ++at) {
    if (text[at] == '\n' && text[at - 1] != '.' && text[at - 1] != ':' && text[at - 1] != '\n')
      text[at] = ' ';
  }
  return text;
}

std::string help_text(const VerbSpec& spec) {
  std::string out = "kestrum " + spec.name + (spec.words.empty() ? "" : " " + spec.words) +
                    (spec.options.empty() ? "" : " [OPTIONS]") + "\n" + spec.summary + "\n";
  if (!spec.details.empty()) out += "\n" + unbroken(spec.details) + "\n";
  if (!spec.options.empty()) {
    std::size_t width = 0;
    auto left = [](const OptionSpec& option) {
      return "--" + option.name + (option.value.empty() ? "" : " " + option.value) +
             (option.list ? " ..." : "");
    };
    for (const OptionSpec& option : spec.options) width = std::max(width, left(option).size());
    out += "\nOptions:\n";
    for (const OptionSpec& option : spec.options) {
      std::string column = left(option);
      out += "  " + column + std::string(width - column.size() + 2, ' ') + option.help + "\n";
    }
  }
  if (!spec.examples.empty()) {
    out += "\nExamples:\n";
    for (const std::string& example : spec.examples) out += "  " + example + "\n";
  }
  return out;
}

}  // namespace kestrum
