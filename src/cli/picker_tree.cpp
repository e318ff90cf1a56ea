#include "cli/picker_tree.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {

std::string mark_text(const PathChoice& choice, const TreePath& path) {
  if (choice.differs_below(path)) return "[~]";
  return choice.holds(path) ? "[x]" : "[ ]";
}

void TreeView::go(const TreePath& folder, const std::optional<TreePath>& at) {
  items_ = pages_.items(folder);
  folder_ = folder;
  sort();
  list_.set_count(items_.size() + 1);
  const auto found =
      std::find_if(items_.begin(), items_.end(), [&](const TreeItem& one) { return at && one.path == *at; });
  // The folder's own line is rarely what is wanted.
  const std::size_t usual = items_.empty() ? 0 : 1;
  list_.go(found == items_.end() ? usual : static_cast<std::size_t>(found - items_.begin()) + 1);
}

void TreeView::go_to_first_fork() {
  TreePath at;
  for (std::vector<TreeItem> items = pages_.items(at); items.size() == 1 && items[0].folder;
       items = pages_.items(at))
    at = items[0].path;
  go(at);
}

TreeItem TreeView::item() const {
  if (list_.at() == 0 || list_.at() > items_.size()) return {folder_, true, {}, {}, {}};
  return items_[list_.at() - 1];
}

void TreeView::sort() {
  std::stable_sort(items_.begin(), items_.end(), [&](const TreeItem& a, const TreeItem& b) {
    if (order_ == Order::size) return b.bytes.value_or(0) < a.bytes.value_or(0);
    if (order_ == Order::changed) return b.modified.value_or(Instant{}) < a.modified.value_or(Instant{});
    return a.path < b.path;
  });
}

std::string TreeView::order_text() const {
  return order_ == Order::name ? "by name" : order_ == Order::size ? "largest first" : "newest first";
}

void TreeView::toggle(const TreePath& path) {
  const PathChoice before = choice_;
  choice_.take(path);
  pages_.taken(choice_, path);
  if (choice_.marks() == before.marks()) choice_.leave_out(path);
}

bool TreeView::take(const Pressed& pressed, std::size_t height) {
  if (list_.take(pressed, height)) return true;
  const TreeItem at = item();
  if (pressed.is(' ')) {
    toggle(at.path);
    list_.take({Key::down, {}}, height);
    return true;
  }
  if (pressed.is('s')) {
    order_ = order_ == Order::name ? Order::size : order_ == Order::size ? Order::changed : Order::name;
    sort();
    list_.go(0);
    return true;
  }
  if ((pressed.key == Key::right || pressed.key == Key::enter) && at.folder && at.path != folder_) {
    go(at.path);
    return true;
  }
  if ((pressed.key == Key::left || pressed.key == Key::erase) && !folder_.is_root()) {
    const TreePath from = folder_;
    go(from.parent(), from);
    return true;
  }
  return false;
}

PickerRow TreeView::row(std::size_t number) const {
  if (number == 0) {
    return {mark_text(choice_, folder_) + " " + (items_.empty() ? "(empty)" : "(all that is in this folder)"),
            ""};
  }
  const TreeItem& one = items_[number - 1];
  const std::string size = one.bytes ? size_text(*one.bytes) : "";
  const std::string when = one.modified ? local_text(*one.modified) : "";
  return {mark_text(choice_, one.path) + " " + printable(one.path.name()) + (one.folder ? "/" : ""),
          fmt::format("{} {:>9}  {:16}", one.note, size, when)};
}

void TreeView::draw(PickerScreen& screen, std::size_t first_row, std::size_t height) {
  list_.draw(screen, first_row, height, [&](std::size_t number) { return row(number); });
}

}  // namespace kestrum
