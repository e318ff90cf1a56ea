#include "cli/picker_parts.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "cli/screen.hpp"

namespace kestrum {

void PickerList::set_count(std::size_t count) {
  count_ = count;
  at_ = count == 0 ? 0 : std::min(at_, count - 1);
}

bool PickerList::take(const Pressed& pressed, std::size_t height) {
  const std::size_t last = count_ == 0 ? 0 : count_ - 1, page = std::max<std::size_t>(1, height);
  switch (pressed.key) {
    case Key::up:
      at_ -= at_ > 0 ? 1 : 0;
      return true;
    case Key::down:
      at_ = std::min(at_ + 1, last);
      return true;
    case Key::page_up:
      at_ -= std::min(at_, page);
      return true;
    case Key::page_down:
      at_ = std::min(at_ + page, last);
      return true;
    case Key::home:
      at_ = 0;
      return true;
    case Key::end:
      at_ = last;
      return true;
    default:
      return false;
  }
}

void PickerList::draw(PickerScreen& screen, std::size_t first_row, std::size_t height,
                      const std::function<PickerRow(std::size_t)>& row) {
  if (height == 0) return;
  top_ = std::min(top_, at_);
  if (at_ >= top_ + height) top_ = at_ - height + 1;
  if (count_ > height) top_ = std::min(top_, count_ - height);
  if (count_ <= height) top_ = 0;
  for (std::size_t i = top_; i < std::min(count_, top_ + height); ++i) {
    const PickerRow one = row(i);
    const std::size_t right = columns_of(one.right), width = screen.columns();
    const std::size_t room = width > right + 2 ? width - right - 2 : 0;
    const std::string shown = out_screen().utf8 ? one.left : in_ascii(one.left);
    std::string text = clipped(shown, room);
    text += std::string(room + 2 - columns_of(text), ' ') + one.right;
    screen.line(first_row + i - top_, text,
                i == at_    ? PickerScreen::Look::bar
                : one.faint ? PickerScreen::Look::faint
                            : PickerScreen::Look::plain);
  }
}

std::size_t middle_height(const PickerScreen& screen) {
  const std::size_t around = frame_above + frame_below;
  return screen.rows() > around ? screen.rows() - around : 0;
}

void draw_page(PickerScreen& screen, const PickerFrame& frame,
               const std::function<void(std::size_t first, std::size_t height)>& middle) {
  screen.begin();
  if (!screen.large_enough()) {
    screen.line(0, fmt::format("too small: {}x{} are needed; Esc goes back", PickerScreen::least_columns,
                               PickerScreen::least_rows));
    screen.end();
    return;
  }
  screen.line(0, frame.title, PickerScreen::Look::bold);
  screen.line(1, frame.place);
  screen.line(screen.rows() - 2, frame.status);
  screen.line(screen.rows() - 1, frame.keys, PickerScreen::Look::bar);
  middle(frame_above, middle_height(screen));
  screen.end();
}

std::vector<std::string> page_lines(const std::string& text, std::size_t columns) {
  std::vector<std::string> lines;
  for (const std::string& line : split(wrapped(text, columns), '\n')) {
    if (columns_of(line) <= columns) {
      lines.push_back(line);
      continue;
    }
    lines.emplace_back();
    for (const std::string& word : split(line, ' ')) {
      const bool begins = lines.back().empty();
      if (!begins && columns_of(lines.back()) + 1 + columns_of(word) > columns) {
        lines.push_back("  " + word);
      } else {
        lines.back() += (begins ? "" : " ") + word;
      }
    }
  }
  return lines;
}

Key read_lines(PickerScreen& screen, const PickerFrame& frame, const std::vector<std::string>& lines) {
  std::size_t top = 0;
  while (true) {
    const std::size_t height = middle_height(screen);
    const std::size_t most = lines.size() > height ? lines.size() - height : 0;
    top = std::min(top, most);
    PickerFrame shown = frame;
    if (most > 0)
      shown.status =
          fmt::format("lines {} to {} of {}  {}", grouped(top + 1),
                      grouped(std::min(lines.size(), top + height)), grouped(lines.size()), frame.status);
    draw_page(screen, shown, [&](std::size_t first, std::size_t rows) {
      for (std::size_t i = 0; i < rows && top + i < lines.size(); ++i) screen.line(first + i, lines[top + i]);
    });
    const Pressed pressed = screen.wait();
    switch (pressed.key) {
      case Key::up:
        top -= top > 0 ? 1 : 0;
        break;
      case Key::down:
        ++top;
        break;
      case Key::page_up:
        top -= std::min(top, height);
        break;
      case Key::page_down:
        top += height;
        break;
      case Key::home:
        top = 0;
        break;
      case Key::end:
        top = most;
        break;
      case Key::enter:
      case Key::escape:
      case Key::left:
      case Key::erase:
        return pressed.key;
      default:
        break;
    }
  }
}

void say(PickerScreen& screen, const std::string& title, const std::string& text) {
  const PickerFrame frame{title, "", "", "Enter or Esc goes on"};
  read_lines(screen, frame, page_lines(text, screen.columns()));
}

std::optional<std::string> type_line(PickerScreen& screen, const std::string& question, std::string text,
                                     const std::function<void(const std::string& status)>& draw) {
  while (true) {
    const std::string shown = question + " " + printable(text);
    draw(shown);
    if (screen.large_enough()) {
      screen.cursor(screen.rows() - 2, columns_of(shown));
      screen.end();
    }
    const Pressed pressed = screen.wait();
    if (pressed.key == Key::enter) return text;
    if (pressed.key == Key::escape) return std::nullopt;
    if (pressed.key == Key::letter) text += pressed.text;
    if (pressed.key == Key::erase && !text.empty()) {
      // The whole of its last letter.
      char gone = 0;
      do {
        gone = text.back();
        text.pop_back();
      } while (!text.empty() && (static_cast<unsigned char>(gone) & 0xc0) == 0x80);
    }
  }
}

}  // namespace kestrum
