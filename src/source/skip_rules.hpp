// Which files below a source are left out: an ordered list of patterns, compiled once, matched as bytes.
#pragma once

#include <string>
#include <unordered_map>
#include <vector>

#include "base/tree_path.hpp"

namespace kestrum {

// A pattern (source/pattern.hpp):
//   *.part            a name, in any folder
//   scratch/          a folder of that name, in any folder, with all that is in it
//   /srv/ringing/tmp  that very file or folder
//   a/b               b directly below a, in any folder
//   !keep.part        takes back what an earlier one leaves out
// A rule speaks of what it matches and of all below it. The last rule of the list that speaks of a thing
// decides.
class SkipRules {
 public:
  static constexpr int no_rule = -1;
  enum class Origin { job, usual_list, hidden_names };
  struct Source {
    std::string text;
    Origin origin = Origin::job;
    std::string said = {};  // as a person wrote it, where that is not the text
    const std::string& shown() const { return said.empty() ? text : said; }
  };

  SkipRules() = default;
  // Throws Error of kind usage for a pattern that cannot mean anything.
  explicit SkipRules(const std::vector<Source>& patterns);
  explicit SkipRules(const std::vector<std::string>& patterns) : SkipRules(sources_of(patterns)) {}

  // The last rule after `above` that matches this very thing; `above` when there is none. `above`: what was
  // found for the folder it is in.
  int deciding(const TreePath& path, bool is_folder, int above = no_rule) const;
  bool leaves_out(int rule) const { return rule != no_rule && !rules_[at(rule)].takes_back; }
  // Whether a rule after `rule` could take back something below that folder.
  bool may_take_back_below(const TreePath& folder, int rule) const;

  const Source& source(int rule) const { return rules_[at(rule)].source; }
  std::size_t size() const { return rules_.size(); }
  // In plain words: rules that a later one of the same pattern always overrules.
  std::vector<std::string> contradictions() const;

 private:
  struct Rule {
    Source source;
    std::string pattern;  // without marks; floating ones begin with **/
    bool takes_back = false;
    bool name_only = false;
    bool folders_only = false;
    bool plain = false;  // no special characters: compare
  };
  struct Hash {
    using is_transparent = void;
    std::size_t operator()(std::string_view text) const { return std::hash<std::string_view>{}(text); }
  };
  // Rules by how their last component can be looked up, in order.
  using Lookup = std::unordered_map<std::string, std::vector<int>, Hash, std::equal_to<>>;

  static std::vector<Source> sources_of(const std::vector<std::string>& patterns);
  static Rule compiled(const Source& source);
  static std::size_t at(int rule) { return static_cast<std::size_t>(rule); }
  void look_up(int rule);
  int last_of(const std::vector<int>& candidates, const TreePath& path, bool is_folder, int above) const;
  bool matches(const Rule& rule, const TreePath& path, bool is_folder) const;

  std::vector<Rule> rules_;
  Lookup by_name_;
  Lookup by_ending_;
  std::vector<int> others_;
  std::vector<int> taking_back_;
};

// The pattern of exactly this and all below it. A job file is UTF-8: empty where no pattern can name it.
std::string exact_pattern(const TreePath& path, bool folder);

}  // namespace kestrum
