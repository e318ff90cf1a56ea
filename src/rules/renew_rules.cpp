#include "rules/renew_rules.hpp"

#include <charconv>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

[[noreturn]] void refuse(const std::string& text, const std::string& why = {}) {
  throw Error(
      ErrorKind::usage, "'" + printable(text) + "' does not say when the full set is renewed" + why,
      "write \"every 30 sets\", \"every 30 days\", \"first run of a month\", \"a restore needs 20 sets\", "
      "\"outgrown 2 times\" or \"never\"");
}

// The number between two parts of a phrase, when the phrase has both.
std::optional<unsigned> number_in(std::string_view text, std::string_view head, std::string_view tail) {
  bool one = text.ends_with(tail.substr(0, tail.size() - 1));  // "1 set"
  if (!text.starts_with(head) || (!text.ends_with(tail) && !one)) return std::nullopt;
  text.remove_prefix(head.size());
  text = trim(text.substr(0, text.rfind(' ')));
  unsigned number = 0;
  auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), number);
  bool good = code == std::errc() && end == text.data() + text.size() && number >= 1 && number <= 100000;
  return good ? std::optional(number) : std::nullopt;
}

}  // namespace

std::vector<std::string> RenewRules::texts() const {
  std::vector<std::string> out;
  if (every_sets) out.push_back("every " + count_text(*every_sets, "set"));
  if (every) out.push_back("every " + every->text());
  if (week) out.emplace_back("first run of a week");
  if (month) out.emplace_back("first run of a month");
  if (restore_needs) out.push_back("a restore needs " + count_text(*restore_needs, "set"));
  if (outgrown) out.push_back("outgrown " + count_text(*outgrown, "time"));
  return out;
}

RenewRules parse_renew(const std::vector<std::string>& texts) {
  RenewRules rules;
  for (const std::string& text : texts) {
    if (text == "never") {
      if (texts.size() > 1) refuse(text, ": 'never' stands alone");
      return {};
    }
    if (auto sets = number_in(text, "every ", " sets")) {
      rules.every_sets = sets;
    } else if (auto needs = number_in(text, "a restore needs ", " sets")) {
      rules.restore_needs = needs;
    } else if (auto times = number_in(text, "outgrown ", " times")) {
      rules.outgrown = times;
    } else if (text == "first run of a week") {
      rules.week = true;
    } else if (text == "first run of a month") {
      rules.month = true;
    } else if (std::optional<Span> span =
                   text.starts_with("every ") ? parse_span(text.substr(6)) : std::nullopt) {
      rules.every = span;
    } else {
      refuse(text);
    }
  }
  if (rules.never()) refuse("");
  return rules;
}

}  // namespace kestrum
