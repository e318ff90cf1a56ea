#include "rules/keep_rules.hpp"

#include <algorithm>
#include <charconv>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

const std::vector<std::string> steps{"hour", "day", "week", "month", "year"};
constexpr const char* thin_example =
    "write it like \"every point for 14 days\", \"one a week for 2 months\" or \"one a year for ever\"";

[[noreturn]] void refuse(const std::string& message, const std::string& hint) {
  throw Error(ErrorKind::usage, message, hint);
}

Span::Unit step_unit(std::size_t step) {
  return static_cast<Span::Unit>(static_cast<std::size_t>(Span::Unit::hour) + step);
}

std::optional<unsigned> whole_number(std::string_view text) {
  unsigned value = 0;
  auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (code != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return value;
}

}  // namespace

std::string ThinRule::which() const {
  if (!one_each) return "every point";
  std::string step =
      steps.at(static_cast<std::size_t>(*one_each) - static_cast<std::size_t>(Span::Unit::hour));
  return (*one_each == Span::Unit::hour ? "one an " : "one a ") + step;
}

std::string ThinRule::how_long() const {
  return during ? " for " + during->text() : std::string(" for ever");
}

std::string ThinRule::text() const {
  return which() + how_long();
}

ThinRule parse_thin_rule(std::string_view text) {
  std::string said = "'" + printable(text) + "' does not say which points stay";
  std::size_t split_at = text.find(" for ");
  if (split_at == std::string_view::npos) refuse(said + ": it does not say for how long", thin_example);
  std::string which(trim(text.substr(0, split_at)));
  std::string_view length = trim(text.substr(split_at + 5));
  ThinRule rule;
  if (which != "every point") {
    bool one = which.starts_with("one a ") || which.starts_with("one an ");
    std::string step = one ? which.substr(which.rfind(' ') + 1) : std::string();
    auto found = std::find(steps.begin(), steps.end(), step);
    if (found == steps.end()) {
      std::optional<std::string> near = one ? nearest(step, steps) : std::nullopt;
      refuse(said,
             near ? "did you mean \"one a " + *near + " for " + std::string(length) + "\"?" : thin_example);
    }
    rule.one_each = step_unit(static_cast<std::size_t>(found - steps.begin()));
  }
  if (length == "ever") return rule;
  rule.during = expect_span(length);
  return rule;
}

unsigned parse_count_of(std::string_view text, const char* unit) {
  std::string_view plain = trim(text);
  std::string example = std::string("write it like \"3 ") + unit + "s\"";
  std::size_t blank = plain.find(' ');
  std::optional<unsigned> count = whole_number(plain.substr(0, blank));
  std::string_view word = blank == std::string_view::npos ? "" : trim(plain.substr(blank));
  if (word.ends_with('s')) word.remove_suffix(1);
  if (!count || *count == 0 || *count > 100000 || word != unit) {
    bool only_number = count && *count > 0 && word.empty();
    refuse("'" + printable(text) + "' is not a number of " + unit + "s",
           only_number ? "did you mean \"" + std::to_string(*count) + " " + unit + "s\"?" : example);
  }
  return *count;
}

unsigned parse_percent(std::string_view text) {
  std::string_view plain = trim(text);
  bool sign = plain.ends_with('%');
  std::optional<unsigned> value = whole_number(trim(plain.substr(0, plain.size() - (sign ? 1 : 0))));
  if (!sign || !value || *value < 1 || *value > 99) {
    refuse("'" + printable(text) + "' is not a share of the drive",
           value && !sign ? "did you mean \"" + std::to_string(*value) + "%\"?"
                          : "write it in percent, from 1% to 99%, like \"85%\"");
  }
  return *value;
}

std::vector<std::string> keep_lines(const KeepRules& rules, bool endless) {
  std::vector<std::string> out;
  if (rules.age && endless) out.push_back("every point stays for " + rules.age->text());
  if (rules.age && !endless)
    out.push_back("a chain stays until all of it is older than " + rules.age->text());
  if (rules.chains) out.push_back("the newest " + count_text(*rules.chains, "chain") + " stay");
  if (rules.points) out.push_back("the newest " + count_text(*rules.points, "point") + " stay");
  for (const ThinRule& rule : rules.thin) {
    std::string which = rule.which();
    if (rule.one_each) which.insert(std::string("one ").size(), "point ");
    out.push_back(which + " stays" + rule.how_long());
  }
  if (rules.job_limit) out.push_back("the job's sets take at most " + size_text(*rules.job_limit));
  if (rules.drive_limit)
    out.push_back("at most " + std::to_string(*rules.drive_limit) + "% of the drive is used");
  if (rules.leave_free) out.push_back(size_text(*rules.leave_free) + " of the drive stay free");
  if (rules.any())
    out.push_back("at least " + count_text(rules.at_least, "good point") + " stay, whatever the limits");
  return out;
}

}  // namespace kestrum
