#include "source/skip_rules.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"
#include "source/pattern.hpp"

namespace kestrum {
namespace {

constexpr std::size_t none = std::string_view::npos;
constexpr const char* special = "*?[\\";

std::string_view last_component(std::string_view pattern) {
  return pattern.substr(pattern.rfind('/') + 1);
}

// What follows the last dot of a name; empty where there is none.
std::string_view ending_of(std::string_view name) {
  std::size_t dot = name.rfind('.');
  return dot == none ? std::string_view() : name.substr(dot + 1);
}

}  // namespace

std::vector<SkipRules::Source> SkipRules::sources_of(const std::vector<std::string>& patterns) {
  std::vector<Source> sources;
  for (const std::string& text : patterns) sources.push_back({text, Origin::job, {}});
  return sources;
}

SkipRules::Rule SkipRules::compiled(const Source& source) {
  Rule rule;
  rule.source = source;
  std::string shown = "the pattern '" + printable(source.text) + "'";
  std::string_view rest = source.text;
  if (rest.starts_with('!')) {
    rule.takes_back = true;
    rest.remove_prefix(1);
  }
  if (rest.ends_with('/')) {
    rule.folders_only = true;
    while (rest.ends_with('/')) rest.remove_suffix(1);
  }
  bool whole_path = rest.starts_with('/');
  if (whole_path) rest.remove_prefix(1);
  if (rest.empty()) {
    throw Error(
        ErrorKind::usage,
        rule.takes_back ? shown + " names nothing to take back" : shown + " would leave out everything",
        "write the folder or the name it is about, like /srv/ringing/scratch/ or *.part");
  }
  if (rest.find("//") != none) throw Error(ErrorKind::usage, shown + " holds an empty name", "write one '/'");
  std::size_t open = rest.find('[');
  bool escaped = open != none && open > 0 && rest[open - 1] == '\\';
  if (open != none && !escaped && rest.find(']', open + 2) == none) {
    throw Error(ErrorKind::usage, shown + " opens a '[' and does not close it",
                "close it with ']', or write \\[ for the character itself");
  }
  rule.pattern = rest;
  rule.name_only = !whole_path && rest.find('/') == none;
  if (!whole_path && !rule.name_only) rule.pattern = "**/" + rule.pattern;
  rule.plain = rule.pattern.find_first_of(special) == none;
  return rule;
}

SkipRules::SkipRules(const std::vector<Source>& patterns) {
  for (const Source& source : patterns) {
    rules_.push_back(compiled(source));
    look_up(static_cast<int>(rules_.size()) - 1);
  }
}

void SkipRules::look_up(int rule) {
  const Rule& entry = rules_[at(rule)];
  if (entry.takes_back) taking_back_.push_back(rule);
  std::string_view last = last_component(entry.pattern);
  std::string_view ending = last.starts_with("*.") ? last.substr(2) : std::string_view();
  if (last.find_first_of(special) == none) {
    by_name_[std::string(last)].push_back(rule);
  } else if (!ending.empty() && ending.find_first_of("*?[\\.") == none) {
    by_ending_[std::string(ending)].push_back(rule);
  } else {
    others_.push_back(rule);
  }
}

bool SkipRules::matches(const Rule& rule, const TreePath& path, bool is_folder) const {
  if (rule.folders_only && !is_folder) return false;
  std::string_view subject = rule.name_only ? path.name() : std::string_view(path.joined());
  return rule.plain ? subject == rule.pattern : matches_pattern(rule.pattern, subject);
}

int SkipRules::last_of(const std::vector<int>& candidates, const TreePath& path, bool is_folder,
                       int above) const {
  for (auto rule = candidates.rbegin(); rule != candidates.rend() && *rule > above; ++rule) {
    if (matches(rules_[at(*rule)], path, is_folder)) return *rule;
  }
  return above;
}

int SkipRules::deciding(const TreePath& path, bool is_folder, int above) const {
  std::string_view name = path.name();
  if (auto found = by_name_.find(name); found != by_name_.end())
    above = last_of(found->second, path, is_folder, above);
  if (std::string_view ending = ending_of(name); !ending.empty() && !by_ending_.empty()) {
    auto found = by_ending_.find(ending);
    if (found != by_ending_.end()) above = last_of(found->second, path, is_folder, above);
  }
  return last_of(others_, path, is_folder, above);
}

bool SkipRules::may_take_back_below(const TreePath& folder, int rule) const {
  return std::any_of(taking_back_.begin(), taking_back_.end(), [&](int later) {
    const Rule& entry = rules_[at(later)];
    return later > rule && (entry.name_only || may_match_below(entry.pattern, folder.joined()));
  });
}

std::vector<std::string> SkipRules::contradictions() const {
  std::vector<std::string> out;
  for (std::size_t i = 0; i < rules_.size(); ++i) {
    const Rule& rule = rules_[i];
    if (rule.source.origin != Origin::job) continue;
    auto later = std::find_if(rules_.begin() + static_cast<std::ptrdiff_t>(i) + 1, rules_.end(),
                              [&](const Rule& other) {
                                return other.pattern == rule.pattern && other.takes_back != rule.takes_back &&
                                       (!other.folders_only || rule.folders_only);
                              });
    if (later == rules_.end()) continue;
    out.push_back("'" + printable(rule.source.text) + "' never decides: '" + printable(later->source.text) +
                  "' stands after it, and the last one wins");
  }
  return out;
}

std::string exact_pattern(const TreePath& path, bool folder) {
  const std::string absolute = path.absolute();
  if (!is_utf8(absolute) || absolute.find('\n') != none) return {};
  std::string pattern;
  for (const char letter : absolute) {
    if (std::string_view(special).find(letter) != none) pattern += '\\';
    pattern += letter;
  }
  return pattern + (folder ? "/" : "");
}

}  // namespace kestrum
