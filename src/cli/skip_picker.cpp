#include "cli/skip_picker.hpp"

#include <algorithm>

#include "base/run_control.hpp"
#include "base/text.hpp"
#include "cli/path_words.hpp"
#include "cli/screen.hpp"

namespace kestrum {

void SkipPicker::add(const PreviewItem& item) {
  if (item.verdict == Verdict::gone) return;
  const bool left_out = item.verdict == Verdict::left_out;
  things_.push_back({item.path, item.size, item.folder, left_out, item.by_rule, left_out ? item.why : ""});
}

void SkipPicker::prepare() {
  std::stable_sort(things_.begin(), things_.end(),
                   [](const Thing& a, const Thing& b) { return a.path < b.path; });
  choice_.take({});
  bytes_ = files_ = {0};
  for (const Thing& thing : things_) {
    if (thing.left_out) choice_.leave_out(thing.path);
    bytes_.push_back(bytes_.back() + thing.bytes);
    files_.push_back(files_.back() + (thing.folder ? 0 : 1));
  }
}

SkipPicker::Range SkipPicker::below(const TreePath& path, std::size_t from) const {
  const auto begin = things_.begin() + static_cast<std::ptrdiff_t>(from);
  const auto first =
      std::partition_point(begin, things_.end(), [&](const Thing& thing) { return thing.path < path; });
  const auto last = std::partition_point(first, things_.end(),
                                         [&](const Thing& thing) { return thing.path.is_within(path); });
  return {static_cast<std::size_t>(first - things_.begin()),
          static_cast<std::size_t>(last - things_.begin())};
}

const SkipPicker::Thing* SkipPicker::thing_at(const TreePath& path) const {
  const Range range = below(path);
  return range.first < range.second && things_[range.first].path == path ? &things_[range.first] : nullptr;
}

TreeItem SkipPicker::item_of(const TreePath& path, const Range& range) const {
  const Thing& first = things_[range.first];
  const bool leaf = first.path == path;
  TreeItem item{path, !leaf || first.folder, bytes_[range.second] - bytes_[range.first], {}, {}};
  if (leaf && first.left_out) item.note = first.by_rule ? "left out" : "never saved";
  if (leaf && first.folder) item.bytes.reset();  // nobody has looked into it
  return item;
}

std::vector<TreeItem> SkipPicker::items(const TreePath& folder) {
  std::vector<TreeItem> items;
  const Range all = below(folder);
  for (std::size_t at = all.first; at < all.second;) {
    if (things_[at].path == folder) {
      ++at;
      continue;
    }
    const std::string rest = things_[at].path.below(folder).joined();
    const TreePath child = folder.child(rest.substr(0, rest.find('/')));
    const Range range = below(child, at);
    items.push_back(item_of(child, range));
    at = range.second;
  }
  return items;
}

void SkipPicker::taken(PathChoice& choice, const TreePath& path) const {
  const Range range = below(path);
  for (std::size_t i = range.first; i < range.second; ++i) {
    if (things_[i].left_out && things_[i].path != path) choice.leave_out(things_[i].path);
  }
}

std::string SkipPicker::sum_text() const {
  std::uint64_t bytes = 0, files = 0;
  for (const auto& [path, taken] : choice_.marks()) {
    const Range range = below(path);
    const std::uint64_t b = bytes_[range.second] - bytes_[range.first];
    const std::uint64_t f = files_[range.second] - files_[range.first];
    bytes += taken ? b : 0 - b;
    files += taken ? f : 0 - f;
  }
  return "To be saved: " + count_text(files, "file") + ", " + size_text(bytes);
}

// Why that cannot be marked otherwise; empty when it can.
std::string SkipPicker::refusal(const TreeItem& item) const {
  const Thing* const thing = thing_at(item.path);
  if (thing != nullptr && thing->left_out && !thing->by_rule)
    return "It is " + thing->why + ". No pattern changes that; see [what] in the job.";
  if (item.path.is_root()) return "A job that saves nothing is of no use.";
  if (exact_pattern(item.path, item.folder).empty())
    return "No pattern can name it: its path is no UTF-8. Take out the folder that it is in.";
  return {};
}

std::vector<std::string> SkipPicker::patterns() const {
  std::vector<std::string> out = job_.what.skip;
  const auto was_left_out = [&](const TreePath& path) {
    const Thing* const thing = thing_at(path);
    return thing != nullptr && thing->left_out;
  };
  const auto pattern_of = [&](const TreePath& path) {
    const Thing* const thing = thing_at(path);
    return exact_pattern(path, thing == nullptr || thing->folder);
  };
  for (const auto& [path, taken] : choice_.marks()) {
    if (!taken && !was_left_out(path)) out.push_back(pattern_of(path));
    if (taken && !path.is_root()) out.push_back("!" + pattern_of(path));
  }
  for (const Thing& thing : things_) {
    if (!thing.left_out || !choice_.holds(thing.path) || choice_.marks().contains(thing.path)) continue;
    const std::string pattern = pattern_of(thing.path);
    const auto own = std::find(out.begin(), out.end(), pattern);
    if (own != out.end()) {
      out.erase(own);
    } else {
      out.push_back("!" + pattern);
    }
  }
  return out;
}

bool SkipPicker::confirm(PickerScreen& screen, const std::vector<std::string>& words) const {
  std::string text = sum_text() + "\n\n[what] skip would be:\n";
  for (const std::string& pattern : patterns()) text += "  " + printable(pattern) + "\n";
  if (patterns().empty()) text += "  (nothing)\n";
  text += "\nThe same as a command:\n\n" + shell_command("job edit", words) + "\n";
  const PickerFrame frame{"Leave out of " + job_.name,
                          "This is what would stand in the job. Nothing is written yet.", "",
                          "Enter: write it  Esc: back"};
  return read_lines(screen, frame, page_lines(text, screen.columns())) == Key::enter;
}

std::vector<std::string> SkipPicker::run() {
  prepare();
  PickerScreen screen;
  TreeView tree(*this, choice_);
  tree.go_to_first_fork();
  std::string status = sum_text();
  while (true) {
    draw_page(screen,
              {"Leave out of " + job_.name, printable(tree.folder().absolute()) + "  " + tree.order_text(),
               status, "Space: leave out, or save  Enter: into  s: order  w: write it  q: leave"},
              [&](std::size_t first, std::size_t height) { tree.draw(screen, first, height); });
    const Pressed pressed = screen.wait();
    if (pressed.key == Key::nothing) continue;
    status = sum_text();
    const std::string refused = pressed.is(' ') ? refusal(tree.item()) : std::string();
    if (!refused.empty()) {
      status = refused;
      continue;
    }
    if (tree.take(pressed, middle_height(screen))) {
      status = sum_text();
      continue;
    }
    if (pressed.is('q') || pressed.key == Key::escape) throw Stopped{"left; the job is as it was"};
    if (!pressed.is('w')) continue;
    if (patterns() == job_.what.skip) {
      status = "Nothing was changed yet.";
      continue;
    }
    std::vector<std::string> words{job_.name};
    for (const std::string& pattern : patterns()) words.insert(words.end(), {"--what-skip", pattern});
    if (patterns().empty()) words.insert(words.end(), {"--usual", "what-skip"});
    if (confirm(screen, words)) return words;
  }
}

}  // namespace kestrum
