// What the pages of a picker are made of: a list to walk in, a frame around it, a line to type in, words to
// read.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "cli/picker_screen.hpp"

namespace kestrum {

struct PickerRow {
  std::string left;   // cut where there is no room
  std::string right;  // stays whole
  bool faint = false;
};

// Which row of many is at hand, and which of them are on the screen.
class PickerList {
 public:
  void set_count(std::size_t count);
  void go(std::size_t row) { at_ = row; }
  std::size_t at() const { return at_; }  // below count(), or 0
  std::size_t count() const { return count_; }
  // Moves; false for any other key. `height`: rows that are shown.
  bool take(const Pressed& pressed, std::size_t height);
  void draw(PickerScreen& screen, std::size_t first_row, std::size_t height,
            const std::function<PickerRow(std::size_t)>& row);

 private:
  std::size_t count_ = 0, at_ = 0, top_ = 0;
};

// Around the middle of a page: two lines above, two below.
struct PickerFrame {
  std::string title;
  std::string place;   // second line
  std::string status;  // last but one
  std::string keys;    // last
};
inline constexpr std::size_t frame_above = 2, frame_below = 2;

// Rows between.
std::size_t middle_height(const PickerScreen& screen);
// Draws a page whole; says so instead where the terminal has become too small. `middle` draws from the row
// that it is given, in so many rows.
void draw_page(PickerScreen& screen, const PickerFrame& frame,
               const std::function<void(std::size_t first, std::size_t height)>& middle);

// A text as lines that go into so many columns; a command is broken too.
std::vector<std::string> page_lines(const std::string& text, std::size_t columns);
// Lines to read, up and down, until Escape or Enter. Returns the key that ended it.
Key read_lines(PickerScreen& screen, const PickerFrame& frame, const std::vector<std::string>& lines);
// A message that waits for any key.
void say(PickerScreen& screen, const std::string& title, const std::string& text);
// A line that is typed, below a page that `draw` draws with that status line; nothing when it was given up.
std::optional<std::string> type_line(PickerScreen& screen, const std::string& question, std::string text,
                                     const std::function<void(const std::string& status)>& draw);

}  // namespace kestrum
