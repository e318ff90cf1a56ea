// Parts of lists of files that do not read, one line each.
#pragma once

#include <algorithm>

#include "engine/look.hpp"

namespace kestrum {

// Where one follows the other they are one.
class GapList {
 public:
  // `whose`: what the line begins with.
  void add(const std::string& whose, const TreePath& from, const std::optional<TreePath>& until,
           const std::string& why) {
    const auto last =
        std::find_if(gaps_.rbegin(), gaps_.rend(), [&](const Gap& gap) { return gap.whose == whose; });
    if (last != gaps_.rend() && last->until == from) {
      last->until = until;
    } else {
      gaps_.push_back({whose, from, until, why});
    }
  }
  std::vector<std::string> lines() const {
    std::vector<std::string> lines;
    for (const Gap& gap : gaps_) lines.push_back(gap.whose + gap_text(gap.from, gap.until, gap.why));
    return lines;
  }

 private:
  struct Gap {
    std::string whose;
    TreePath from;
    std::optional<TreePath> until;
    std::string why;
  };
  std::vector<Gap> gaps_;
};

}  // namespace kestrum
