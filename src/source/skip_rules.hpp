// Which files below a source are left out: patterns compiled once, matched as bytes.
#pragma once

#include <string>
#include <vector>

#include "base/tree_path.hpp"

namespace kestrum {

// A pattern:
//   *.part            a name, in any folder
//   scratch/          a folder of that name, in any folder, with all that is in it
//   /srv/ringing/tmp  that very file or folder
//   a/b               b directly below a, in any folder
// `*` stands for anything but '/', `?` for one byte but '/', `**` for anything, `[abc]` and `[a-z]` for one
// of them
// (`[!abc]` none of them), `\` takes the next byte as it is.
class SkipRules {
 public:
  SkipRules() = default;
  // Throws Error of kind usage for a pattern that cannot mean anything.
  explicit SkipRules(const std::vector<std::string>& patterns);
  // The pattern that leaves it out, or nullptr. Asked for each file and folder on the way down, so a pattern
  // need not match what lies below a folder that it leaves out.
  const std::string* skipping(const TreePath& path, bool is_folder) const;
  bool empty() const { return rules_.empty(); }

 private:
  struct Rule {
    std::string text;     // as written
    std::string pattern;  // without anchors
    bool whole_path = false;
    bool name_only = false;
    bool folders_only = false;
    bool plain = false;  // no special characters: compare
  };
  std::vector<Rule> rules_;
};

// Shell-like matching of the whole of `text`, in time proportional to both lengths multiplied at worst.
bool matches_pattern(std::string_view pattern, std::string_view text);

}  // namespace kestrum
