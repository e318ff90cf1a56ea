#include "cli/picker_screen.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

#include "base/error.hpp"
#include "cli/progress.hpp"
#include "cli/screen.hpp"

#define NCURSES_WIDECHAR 1
#define NCURSES_NOMACROS 1
#include <curses.h>

namespace kestrum {
namespace {

constexpr int moment_ms = 200;  // after which somebody who waits looks whether a stop was asked for
constexpr int control_c = 3, control_l = 12;

SCREEN* terminal = nullptr;

std::string utf8_of(wint_t letter) {
  const auto code = static_cast<std::uint32_t>(letter);
  std::string out;
  if (code < 0x80) {
    out += static_cast<char>(code);
  } else if (code < 0x800) {
    out += static_cast<char>(0xc0 | code >> 6);
    out += static_cast<char>(0x80 | (code & 0x3f));
  } else if (code < 0x10000) {
    out += static_cast<char>(0xe0 | code >> 12);
    out += static_cast<char>(0x80 | (code >> 6 & 0x3f));
    out += static_cast<char>(0x80 | (code & 0x3f));
  } else {
    out += static_cast<char>(0xf0 | code >> 18);
    out += static_cast<char>(0x80 | (code >> 12 & 0x3f));
    out += static_cast<char>(0x80 | (code >> 6 & 0x3f));
    out += static_cast<char>(0x80 | (code & 0x3f));
  }
  return out;
}

Pressed named(wint_t code) {
  switch (code) {
    case KEY_UP:
      return {Key::up, {}};
    case KEY_DOWN:
      return {Key::down, {}};
    case KEY_LEFT:
      return {Key::left, {}};
    case KEY_RIGHT:
      return {Key::right, {}};
    case KEY_PPAGE:
      return {Key::page_up, {}};
    case KEY_NPAGE:
      return {Key::page_down, {}};
    case KEY_HOME:
      return {Key::home, {}};
    case KEY_END:
      return {Key::end, {}};
    case KEY_ENTER:
      return {Key::enter, {}};
    case KEY_BACKSPACE:
      return {Key::erase, {}};
    case KEY_RESIZE:
      return {Key::resized, {}};
    default:
      return {};
  }
}

Pressed typed(wint_t code) {
  switch (code) {
    case '\n':
    case '\r':
      return {Key::enter, {}};
    case 27:
      return {Key::escape, {}};
    case 8:
    case 127:
      return {Key::erase, {}};
    case '\t':
      return {Key::tab, {}};
    default:
      return code < 0x20 ? Pressed{} : Pressed{Key::letter, utf8_of(code)};
  }
}

}  // namespace

PickerScreen::PickerScreen() {
  const char* const kind = std::getenv("TERM");
  terminal = newterm(nullptr, stdout, stdin);
  if (terminal == nullptr)
    throw Error(ErrorKind::usage,
                std::string("this terminal") + (kind != nullptr ? std::string(" ('") + kind + "')" : "") +
                    " is not known here, and choosing needs one that is",
                "set TERM (TERM=xterm fits most), or name the files: kestrum restore SUBJECT PATH...");
  raw();
  noecho();
  keypad(stdscr, TRUE);
  set_escdelay(25);
  // Terminals that send these whatever they were told to.
  static constexpr std::pair<const char*, int> also[] = {{"\033[A", KEY_UP},    {"\033[B", KEY_DOWN},
                                                         {"\033[C", KEY_RIGHT}, {"\033[D", KEY_LEFT},
                                                         {"\033[H", KEY_HOME},  {"\033[F", KEY_END}};
  for (const auto& [sequence, key] : also) {
    if (key_defined(sequence) == 0) define_key(sequence, key);
  }
  wtimeout(stdscr, moment_ms);
  curs_set(0);
  if (large_enough()) return;
  const std::string size = fmt::format("{} columns and {} lines", columns(), rows());
  endwin();
  delscreen(terminal);
  throw Error(
      ErrorKind::usage,
      fmt::format("this terminal has {}, and choosing needs {} and {}", size, least_columns, least_rows),
      "make it larger, or name the files: kestrum restore SUBJECT PATH...");
}

PickerScreen::~PickerScreen() {
  curs_set(1);
  endwin();
  delscreen(terminal);
  terminal = nullptr;
}

Pressed PickerScreen::wait() {
  process_control().checkpoint();
  wint_t code = 0;
  errno = 0;
  const int kind = wget_wch(stdscr, &code);
  process_control().checkpoint();
  if (kind == ERR) {
    if (errno == EIO || isatty(STDIN_FILENO) != 1)
      throw Error(ErrorKind::stopped, "the terminal went away; nothing was chosen", "");
    return {};
  }
  if (kind == KEY_CODE_YES) return named(code);
  if (code == control_l) clearok(stdscr, TRUE);  // what somebody else has written there goes
  if (code == control_c) throw Stopped{"stopped; nothing was chosen"};
  return typed(code);
}

std::size_t PickerScreen::rows() const {
  return static_cast<std::size_t>(std::max(0, getmaxy(stdscr)));
}

std::size_t PickerScreen::columns() const {
  return static_cast<std::size_t>(std::max(0, getmaxx(stdscr)));
}

void PickerScreen::begin() {
  werase(stdscr);
  curs_set(0);
}

void PickerScreen::line(std::size_t row, const std::string& text, Look look) {
  if (row >= rows()) return;
  std::string shown = clipped(out_screen().utf8 ? text : in_ascii(text), columns());
  const attr_t attributes = look == Look::bar     ? A_REVERSE
                            : look == Look::bold  ? A_BOLD
                            : look == Look::faint ? A_DIM
                                                  : A_NORMAL;
  if (look == Look::bar) shown += std::string(columns() - columns_of(shown), ' ');
  wattrset(stdscr, static_cast<int>(attributes));
  mvwaddstr(stdscr, static_cast<int>(row), 0, shown.c_str());
  wattrset(stdscr, A_NORMAL);
}

void PickerScreen::cursor(std::size_t row, std::size_t column) {
  wmove(stdscr, static_cast<int>(row), static_cast<int>(std::min(column, columns() - 1)));
  curs_set(1);
}

void PickerScreen::end() {
  wrefresh(stdscr);
}

}  // namespace kestrum
