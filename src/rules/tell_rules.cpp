#include "rules/tell_rules.hpp"

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {

void set_tell_when(TellRules& rules, const std::vector<std::string>& values) {
  rules.problems = rules.good_again = rules.every_run = false;
  rules.digest = DigestEvery::none;
  for (const std::string& value : values) {
    if (value == "problems") {
      rules.problems = true;
    } else if (value == "good again") {
      rules.good_again = true;
    } else if (value == "every run") {
      rules.every_run = true;
    } else if (value == "a digest a day") {
      rules.digest = DigestEvery::daily;
    } else if (value == "a digest a week") {
      if (rules.digest == DigestEvery::none) rules.digest = DigestEvery::weekly;
    } else {
      const std::vector<std::string> words{"problems", "good again", "every run", "a digest a day",
                                           "a digest a week"};
      const std::optional<std::string> near = nearest(value, words);
      throw Error(ErrorKind::usage, "'" + printable(value) + "' is nothing that a mail can be about",
                  near ? "did you mean \"" + *near + "\"?" : "choose among: " + join(words, ", "));
    }
  }
}

std::string tell_when_text(const TellRules& rules) {
  std::vector<std::string> parts;
  if (rules.problems) parts.emplace_back(rules.good_again ? "problems, and when they are gone" : "problems");
  if (!rules.problems && rules.good_again) parts.emplace_back("when problems are gone");
  if (rules.every_run) parts.emplace_back("every run");
  if (rules.digest == DigestEvery::daily) parts.emplace_back("a digest a day");
  if (rules.digest == DigestEvery::weekly) parts.emplace_back("a digest a week");
  return parts.empty() ? "nothing" : join(parts, "; ");
}

}  // namespace kestrum
