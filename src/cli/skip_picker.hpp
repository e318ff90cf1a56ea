// Taking things out of what a job saves, by keys: what is taken out, or taken back, goes into [what] skip.
#pragma once

#include "cli/picker_tree.hpp"
#include "engine/preview.hpp"

namespace kestrum {

class SkipPicker : public TreePages {
 public:
  explicit SkipPicker(Job job) : job_(std::move(job)) {}
  // What a preview tells, in any order.
  void add(const PreviewItem& item);
  // The words of the `job edit` that writes the patterns. Throws Stopped when nothing was changed.
  std::vector<std::string> run();

  std::vector<TreeItem> items(const TreePath& folder) override;
  void taken(PathChoice& choice, const TreePath& path) const override;

 private:
  struct Thing {
    TreePath path;
    std::uint64_t bytes = 0;
    bool folder = false;  // that is left out, with all that is in it
    bool left_out = false;
    bool by_rule = false;
    std::string why;
  };
  using Range = std::pair<std::size_t, std::size_t>;
  void prepare();
  Range below(const TreePath& path, std::size_t from = 0) const;
  TreeItem item_of(const TreePath& path, const Range& range) const;
  const Thing* thing_at(const TreePath& path) const;
  std::string sum_text() const;
  std::string refusal(const TreeItem& item) const;
  std::vector<std::string> patterns() const;
  bool confirm(PickerScreen& screen, const std::vector<std::string>& words) const;

  Job job_;
  std::vector<Thing> things_;                 // by path
  std::vector<std::uint64_t> bytes_, files_;  // of all before each, and of all; of what would be saved now
  PathChoice choice_;
};

}  // namespace kestrum
