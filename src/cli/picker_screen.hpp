// The whole terminal, for choosing by keys. What a line may hold and which key was pressed; nothing of what
// is chosen.
#pragma once

#include <cstddef>
#include <string>

namespace kestrum {

enum class Key {
  up,
  down,
  left,
  right,
  page_up,
  page_down,
  home,
  end,
  enter,
  escape,
  erase,
  tab,
  letter,  // `text` says which
  resized,
  nothing,  // none was pressed for a moment
};
struct Pressed {
  Key key = Key::nothing;
  std::string text;  // UTF-8
  bool is(char letter) const { return key == Key::letter && text.size() == 1 && text[0] == letter; }
};

// One at a time. The terminal is as it was before when this goes.
class PickerScreen {
 public:
  static constexpr std::size_t least_columns = 60, least_rows = 12;

  // Throws Error of kind usage for a terminal that cannot do this, or is too small for it.
  PickerScreen();
  ~PickerScreen();
  PickerScreen(const PickerScreen&) = delete;
  PickerScreen& operator=(const PickerScreen&) = delete;

  // Throws Stopped when a stop was asked for, also by Ctrl-C; Error of kind stopped when the terminal went
  // away.
  Pressed wait();
  std::size_t rows() const;
  std::size_t columns() const;
  // It may become smaller at any time; what is drawn then is one line that says so.
  bool large_enough() const { return rows() >= least_rows && columns() >= least_columns; }

  enum class Look { plain, bar, bold, faint };
  // Between the two, lines are put in any order; those that are not put are empty.
  void begin();
  // What is too long is cut. `text`: UTF-8, without control characters.
  void line(std::size_t row, const std::string& text, Look look = Look::plain);
  void cursor(std::size_t row, std::size_t column);  // seen there; nowhere else
  void end();
};

}  // namespace kestrum
