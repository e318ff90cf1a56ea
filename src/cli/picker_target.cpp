#include "cli/picker_target.hpp"

#include <filesystem>

#include "base/text.hpp"

namespace kestrum {
namespace {

using Where = PickedTarget::Where;

struct Choice {
  const char* value;
  const char* words;
};
constexpr Choice clashes[] = {{"keep-both", "keep both: the restored one gets the day in its name"},
                              {"replace", "replace it, once the restored one is whole"},
                              {"keep-existing", "keep what is there"},
                              {"keep-newer", "keep the newer one"}};
constexpr Choice layouts[] = {{"picked", "from what was picked"},
                              {"path", "all of them, from the root"},
                              {"flat", "none: all files side by side"}};

template <std::size_t N>
const char* words_of(const Choice (&choices)[N], const std::string& value) {
  for (const Choice& one : choices) {
    if (one.value == value) return one.words;
  }
  return "";
}

template <std::size_t N>
void step(const Choice (&choices)[N], std::string& value, bool forward) {
  std::size_t at = 0;
  while (at < N && choices[at].value != value) ++at;
  value = choices[(at + (forward ? 1 : N - 1)) % N].value;
}

enum class Field { where, path, clash, layout, go };

// Those that mean something.
std::vector<Field> fields_of(const PickedTarget& target) {
  switch (target.where) {
    case Where::folder:
      return {Field::where, Field::path, Field::clash, Field::layout, Field::go};
    case Where::in_place:
      return {Field::where, Field::clash, Field::go};
    case Where::one_file:
      return {Field::where, Field::path, Field::go};
  }
  return {};
}

PickerRow row_of(const PickedTarget& target, Field field) {
  const std::string& path = target.where == Where::one_file ? target.file : target.folder;
  switch (field) {
    case Field::where:
      return {std::string("Where to                  ") +
                  (target.where == Where::folder     ? "a folder"
                   : target.where == Where::in_place ? "where they were"
                                                     : "one file, .zip or .tar.zst, for other programs"),
              ""};
    case Field::path:
      return {(target.where == Where::folder ? "The folder                " : "The file                  ") +
                  printable(path),
              ""};
    case Field::clash:
      return {std::string("Where one is there        ") + words_of(clashes, target.clash), ""};
    case Field::layout:
      return {std::string("Folders                   ") + words_of(layouts, target.layout), ""};
    case Field::go:
      return {"Go on, and see what would become of it", ""};
  }
  return {};
}

void change(PickedTarget& target, Field field, bool forward) {
  if (field == Field::where)
    target.where = static_cast<Where>((static_cast<int>(target.where) + (forward ? 1 : 2)) % 3);
  if (field == Field::clash) step(clashes, target.clash, forward);
  if (field == Field::layout) step(layouts, target.layout, forward);
}

}  // namespace

PickedTarget target_of(const Arguments& arguments) {
  PickedTarget target;
  std::error_code code;
  std::filesystem::path here = std::filesystem::current_path(code);
  std::filesystem::path folder = here / "restored";
  for (unsigned n = 2; std::filesystem::exists(std::filesystem::symlink_status(folder, code)); ++n)
    folder = here / ("restored-" + std::to_string(n));
  target.folder = arguments.value("to").value_or(folder.string());
  target.file = arguments.value("into").value_or((here / "restored.zip").string());
  if (arguments.has("in-place")) target.where = Where::in_place;
  if (arguments.has("into")) target.where = Where::one_file;
  target.clash = arguments.value("clash").value_or(target.clash);
  target.layout = arguments.value("layout").value_or(target.layout);
  return target;
}

std::vector<std::string> target_options(const PickedTarget& target) {
  std::vector<std::string> words;
  if (target.where == Where::one_file) return {"--into", target.file};
  if (target.where == Where::in_place) {
    words = {"--in-place"};
  } else {
    words = {"--to", target.folder};
    if (target.layout != "picked") words.insert(words.end(), {"--layout", target.layout});
  }
  if (target.clash != "keep-both") words.insert(words.end(), {"--clash", target.clash});
  return words;
}

bool fill_in(PickerScreen& screen, const std::string& title, const std::string& chosen,
             PickedTarget& target) {
  PickerList list;
  list.set_count(fields_of(target).size());
  list.go(1);
  const auto draw = [&](const std::string& status) {
    const std::vector<Field> fields = fields_of(target);
    list.set_count(fields.size());
    const PickerFrame frame{title, "Where to?", status,
                            "Left Right: another  Enter: type it, or the next line  Esc: back"};
    draw_page(screen, frame, [&](std::size_t first, std::size_t height) {
      list.draw(screen, first + 1, height - 1, [&](std::size_t row) { return row_of(target, fields[row]); });
    });
  };
  while (true) {
    draw(chosen);
    const Pressed pressed = screen.wait();
    const Field field = fields_of(target)[list.at()];
    if (pressed.key == Key::escape) return false;
    if (list.take(pressed, middle_height(screen))) continue;
    if (pressed.key == Key::enter && field == Field::go) return true;
    if (pressed.key == Key::enter && field == Field::path) {
      std::string& path = target.where == Where::one_file ? target.file : target.folder;
      if (const std::optional<std::string> typed = type_line(screen, "Path:", path, draw);
          typed && !typed->empty())
        path = *typed;
      list.take({Key::down, {}}, middle_height(screen));
      continue;
    }
    if (pressed.key == Key::enter) list.take({Key::down, {}}, middle_height(screen));
    const bool forward = pressed.key == Key::right || pressed.is(' ');
    if (forward || pressed.key == Key::left) change(target, field, forward);
  }
}

}  // namespace kestrum
