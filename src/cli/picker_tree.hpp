// Walking folders and marking what is in them.
#pragma once

#include "base/clock.hpp"
#include "cli/picker_parts.hpp"
#include "engine/path_choice.hpp"

namespace kestrum {

struct TreeItem {
  TreePath path;
  bool folder = false;
  std::optional<std::uint64_t> bytes;  // of a folder, of all that is in it
  std::optional<Instant> modified;
  std::string note;  // a few words behind the name
};

// Where the items come from.
class TreePages {
 public:
  virtual ~TreePages() = default;
  // What is directly in it, by name.
  virtual std::vector<TreeItem> items(const TreePath& folder) = 0;
  // That was taken, with all that is in it: what does not come along by itself is left out again.
  virtual void taken(PathChoice&, const TreePath&) const {}
};

class TreeView {
 public:
  // Both must outlive it. `choice`: what is marked is written there.
  TreeView(TreePages& pages, PathChoice& choice) : pages_(pages), choice_(choice) {}

  // To that folder, with that item of it at hand.
  void go(const TreePath& folder, const std::optional<TreePath>& at = {});
  // Where there is first a choice: nobody wants to walk through /home/isla to that.
  void go_to_first_fork();
  const TreePath& folder() const { return folder_; }
  // At hand: the folder itself in its first line.
  TreeItem item() const;
  // Moves, walks and marks; false for any other key.
  bool take(const Pressed& pressed, std::size_t height);
  void draw(PickerScreen& screen, std::size_t first_row, std::size_t height);
  std::string order_text() const;  // "by name"

 private:
  enum class Order { name, size, changed };
  void sort();
  void toggle(const TreePath& path);
  PickerRow row(std::size_t number) const;
  TreePages& pages_;
  PathChoice& choice_;
  TreePath folder_;
  std::vector<TreeItem> items_;
  PickerList list_;
  Order order_ = Order::name;
};

// "[x]", "[ ]", or "[~]" where only a part of it is marked.
std::string mark_text(const PathChoice& choice, const TreePath& path);

}  // namespace kestrum
