#include "cli/restore_picker.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/file_view.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/path_words.hpp"
#include "cli/picker_hits.hpp"
#include "cli/picker_target.hpp"
#include "cli/progress.hpp"
#include "cli/restore_request.hpp"
#include "cli/restore_words.hpp"
#include "engine/file_compare.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

constexpr const char* help_lines =
    "Up, Down, Page Up, Page Down, Home, End   move\n"
    "Enter or Right    into a folder; look at a file\n"
    "Left or Backspace out of a folder\n"
    "Space             choose it, or leave it out again; a folder with all that is in it\n"
    "/                 look for a part of a name, or a pattern like *.csv\n"
    "v                 the versions of this file, in all points\n"
    "c                 what changed from the point before to this one\n"
    "s                 by name, by size, by time\n"
    "d or Esc          another day\n"
    "r                 go on: where to\n"
    "q                 leave, and restore nothing\n"
    "\n"
    "[x] is chosen, [~] in part. 'gone' and 'different' say how it is on the disk today.\n"
    "Nothing is written before you have said so on the last page.";

class RestorePicker {
 public:
  RestorePicker(const VerbSpec& spec, const Arguments& arguments, const Environment& environment,
                ChosenPoint& chosen)
      : spec_(spec),
        arguments_(arguments),
        points_(chosen, environment),
        tree_(points_, choice_),
        target_(target_of(arguments)),
        begin_with_day_(!arguments.has("at") && !chosen.subject().named_set()) {
    try {
      points_.open(points_.current());  // asks and fails while the terminal is as it was
      tree_.go_to_first_fork();
      in_tree_ = points_.current();
    } catch (const Error& error) {
      if (!begin_with_day_ || !does_not_read(error)) throw;  // else another day may do
    }
  }

  std::vector<std::string> run() {
    PickerScreen screen;
    screen_ = &screen;
    bool day = begin_with_day_;
    while (true) {
      if (day) pick_day();
      day = true;
      if (walk()) return words_;
    }
  }

 private:
  std::string title() const {
    const PickerPoints::Point& point = points_.all()[points_.current()];
    return "Restore from " + points_.text(point);
  }
  std::string sum_text() {
    if (choice_.empty()) return "Nothing is chosen yet.";
    try {
      const CatalogReader::Below sum =
          points_.with_point([&](OpenPoint& point) { return chosen_sum(point.catalog(), choice_); });
      return "Chosen: " + count_text(sum.entries, "file or folder", "files and folders") + ", " +
             size_text(sum.bytes);
    } catch (const Error&) {
      return "Chosen; how much that is does not read.";
    }
  }

  void busy(const std::string& what) {
    draw_page(*screen_, {title(), "", what, ""}, [](std::size_t, std::size_t) {});
  }

  // Of what goes wrong on the way, a person is told and goes on.
  template <typename Use>
  bool told(Use&& use, const std::string& lead = {}) {
    try {
      use();
      return true;
    } catch (const Error& error) {
      say(*screen_, title(), lead + error.what() + "\n" + error.hint());
      return false;
    }
  }

  [[noreturn]] void leave() { throw Stopped{"left; nothing was restored"}; }

  // What was marked stays marked, as far as that day has it.
  bool go_to_day(std::size_t place) {
    if (place == in_tree_) return true;
    busy("Opening " + points_.text(points_.all()[place]) + " ...");
    const std::size_t before = points_.current();
    const bool there = told(
        [&] {
          points_.open(place);
          std::vector<TreePath> lost;
          PathChoice kept;
          for (const auto& [path, taken] : choice_.marks()) {
            if (!path.is_root() && !points_.point().catalog().find(path)) {
              if (taken) lost.push_back(path);
            } else if (taken) {
              kept.take(path);
            } else {
              kept.leave_out(path);
            }
          }
          TreePath folder = tree_.folder();
          while (!folder.is_root() && !points_.point().catalog().find(folder)) folder = folder.parent();
          tree_.go(folder);
          choice_ = kept;
          in_tree_ = place;
          if (!lost.empty())
            say(*screen_, title(),
                "Not there on that day, and not chosen any more: " + printable(lost[0].absolute()) +
                    (lost.size() > 1 ? " and " + grouped(lost.size() - 1) + " more" : ""));
        },
        "That day does not open, another one may: ");
    // What is shown is still the list of the day before.
    if (!there && in_tree_ && points_.current() == place) told([&] { points_.open(before); });
    return there;
  }

  bool go_to(std::size_t place, const TreePath& path) {
    if (!go_to_day(place)) return false;
    return told([&] { tree_.go(path.parent(), path); });
  }

  void pick_day() {
    PickerList list;
    list.set_count(points_.all().size());
    list.go(points_.current());
    std::size_t shown = points_.all().size();  // whose changes are told
    while (true) {
      const bool knows = points_.knows_changes(list.at());
      draw_page(*screen_,
                {"Restore: from which day?", count_text(points_.all().size(), "point") + ", the newest first",
                 knows ? "That day: " + changes_text(points_.changes(list.at())) : "",
                 "Enter: this day  c: what changed that day  q: leave"},
                [&](std::size_t first, std::size_t height) {
                  list.draw(*screen_, first, height, [&](std::size_t row) { return day_row(row); });
                });
      const Pressed pressed = screen_->wait();
      if (pressed.key == Key::nothing && !knows && shown != list.at()) {
        shown = list.at();
        points_.changes(list.at());
      }
      if (list.take(pressed, middle_height(*screen_))) continue;
      if (pressed.is('q') || pressed.key == Key::escape) leave();
      if ((pressed.key == Key::enter || pressed.key == Key::right) && go_to_day(list.at())) return;
      if (pressed.is('c') && go_to_day(list.at()) && look_at_changes()) return;
    }
  }

  PickerRow day_row(std::size_t row) const {
    const PickerPoints::Point& point = points_.all()[row];
    const SetFacts& facts = point.info.facts;
    const std::string health = point.info.closed   ? "other key"
                               : point.info.good() ? ""
                                                   : std::string(health_text(point.info.health));
    const std::string drive = points_.several() ? points_.drive(point) + "  " : "";
    return {weekday_text(facts.started) + " " + local_text(facts.started) + "  point " +
                points_.number(point) + ", " + std::string(kind_name(facts.kind)),
            fmt::format("{}{}  {:>9} files  {:>9}", drive, health, grouped(facts.totals.files),
                        size_text(facts.totals.bytes)),
            !point.info.good()};
  }

  // True once everything is said.
  bool walk() {
    std::string sum = sum_text();
    while (true) {
      std::string status = sum;
      for (const std::string& finding : points_.findings()) status = "Note: " + finding;
      draw_tree(status);
      const Pressed pressed = screen_->wait();
      bool moved = false;
      if (!told([&] { moved = tree_.take(pressed, middle_height(*screen_)); })) continue;
      if (!moved && (pressed.is('d') || pressed.key == Key::escape)) return false;
      if (!moved && pressed.is('q')) leave();
      if (!moved) told([&] { act(pressed); });
      if (!words_.empty()) return true;
      if (pressed.key != Key::nothing) sum = sum_text();
    }
  }

  void draw_tree(const std::string& status) {
    draw_page(*screen_,
              {title(), printable(tree_.folder().absolute()) + "  " + tree_.order_text(), status,
               "Space: choose  Enter: into  /: look for  v: versions  d: day  r: restore  ?: more"},
              [&](std::size_t first, std::size_t height) { tree_.draw(*screen_, first, height); });
  }

  void act(const Pressed& pressed) {
    const TreeItem item = tree_.item();
    if (pressed.is('?')) say(*screen_, "Keys", help_lines);
    if (pressed.is('/')) search();
    if (pressed.is('c')) look_at_changes();
    if (pressed.is('r')) finish();
    if (pressed.is('v') && !item.path.is_root()) versions(item.path);
    const bool look = pressed.key == Key::enter || pressed.key == Key::right || pressed.is('t');
    if (look && !item.folder) look_at(item.path);
  }

  void look_at(const TreePath& path) {
    std::vector<std::string> lines;
    std::string facts;
    points_.with_point([&](OpenPoint& point) {
      const std::optional<Entry> entry = point.catalog().find(path);
      if (!entry) throw no_such_path(point, path);
      facts = (entry->has_content() ? size_text(entry->size) : std::string(entry_type_name(entry->type))) +
              " of " + local_text(entry->modified);
      lines.clear();
      if (entry->type == EntryType::symlink) {
        lines = {"a link to " + printable(entry->link_target)};
      } else if (!entry->has_content() || !is_plain_text(point, *entry)) {
        lines = {"It is no text, or too long to be shown."};
      } else {
        std::string content;
        FileView(point.reader(), *entry).each(0, entry->size, [&](std::uint64_t, ByteView part) {
          content += as_text(part);
        });
        for (const std::string& line : split(content, '\n')) lines.push_back(shown_line(line));
      }
    });
    read_lines(*screen_, {title(), printable(path.absolute()), facts, "Esc: back"}, lines);
  }

  static std::string shown_line(std::string line) {
    if (line.ends_with('\r')) line.pop_back();
    std::string out;
    for (const char letter : line) {
      constexpr std::size_t tab = 8;
      if (letter == '\t') {
        out += std::string(tab - out.size() % tab, ' ');
      } else {
        out += letter;
      }
    }
    return printable(out);
  }

  // True when the person went to one of them.
  bool look_at_changes() {
    const std::size_t place = points_.current();
    if (!points_.knows_changes(place)) busy("Looking what changed ...");
    const PickerPoints::Changes& changes = points_.changes(place);
    PickerList list;
    list.set_count(changes.first.size());
    while (true) {
      draw_page(*screen_,
                {title(), "What changed from the point before: " + changes_text(changes),
                 changes.more ? "Only the first of them are shown; kestrum compare shows all." : sum_text(),
                 "Space: choose  Enter: go there  Esc: back"},
                [&](std::size_t first, std::size_t height) {
                  list.draw(*screen_, first, height, [&](std::size_t row) {
                    const ChangedFile& one = changes.first[row];
                    const bool gone = one.how == Differs::gone;
                    return PickerRow{(gone ? std::string("   ") : mark_text(choice_, one.entry.path)) +
                                         fmt::format(" {:<10} ", change_word(one.how)) +
                                         name_and_folder(one.entry.path, false),
                                     one.entry.has_content() ? size_text(one.entry.size) : "", gone};
                  });
                });
      const Pressed pressed = screen_->wait();
      if (list.take(pressed, middle_height(*screen_))) continue;
      if (pressed.key == Key::escape || pressed.is('q') || pressed.key == Key::left) return false;
      if (list.count() == 0) continue;
      const ChangedFile& one = changes.first[list.at()];
      const bool there = one.how != Differs::gone;
      if (pressed.is(' ') && there) toggle(one.entry.path);
      if (pressed.key == Key::enter && there && go_to(place, one.entry.path)) return true;
      if (pressed.key == Key::enter && !there) versions(one.entry.path);
    }
  }

  void toggle(const TreePath& path) {
    if (choice_.holds(path)) {
      choice_.leave_out(path);
    } else {
      choice_.take(path);
    }
  }

  void search() {
    bool everywhere = false;
    const auto draw = [&](const std::string& status) { draw_tree(status); };
    const std::optional<std::string> wanted =
        type_line(*screen_, "Look for a part of a name, or a pattern like *.csv:", "", draw);
    if (!wanted || wanted->empty()) return;
    while (true) {
      busy(everywhere ? "Looking through all points ..." : "Looking ...");
      const PickerHits hits = everywhere ? found_everywhere(points_, *wanted) : found_here(points_, *wanted);
      const std::string place = printable("'" + *wanted + "'") + ": " + count_text(hits.hits.size(), "hit") +
                                (hits.hits.size() == most_picker_hits ? " or more" : "") +
                                (everywhere ? ", in all points" : ", in this point");
      const bool again = among(hits, place,
                               everywhere ? "Space: choose, if it is of this day  Enter: go there  Esc: back"
                                          : "Space: choose  Enter: go there  a: in all points too  Esc: back",
                               !everywhere);
      if (!again) return;
      everywhere = true;
    }
  }

  void versions(const TreePath& path) {
    busy("Looking through all points ...");
    among(versions_of(points_, path), "Versions of " + printable(path.absolute()),
          "Enter: go to that day, with it chosen  Esc: back", false, true);
  }

  // True when the person wants to look further.
  bool among(const PickerHits& found, const std::string& place, const std::string& keys, bool may_widen,
             bool choose = false) {
    const std::vector<PickerHit>& hits = found.hits;
    const std::string note = found.unread ? "Not all of the lists reads: there may be more.  " : "";
    PickerList list;
    list.set_count(hits.size());
    while (true) {
      draw_page(
          *screen_, {title(), place, note + sum_text(), keys}, [&](std::size_t first, std::size_t height) {
            list.draw(*screen_, first, height, [&](std::size_t row) {
              const PickerHit& hit = hits[row];
              const bool here = hit.place == points_.current();
              return PickerRow{(here ? mark_text(choice_, hit.path) : std::string("   ")) + " " + hit.left,
                               hit.right, false};
            });
          });
      const Pressed pressed = screen_->wait();
      if (list.take(pressed, middle_height(*screen_))) continue;
      if (pressed.key == Key::escape || pressed.key == Key::left) return false;
      if (pressed.is('a') && may_widen) return true;
      if (hits.empty()) continue;
      const PickerHit& hit = hits[list.at()];
      if (pressed.is(' ') && hit.place == points_.current()) toggle(hit.path);
      if (pressed.key == Key::enter && go_to(hit.place, hit.path)) {
        if (choose) choice_.take(hit.path);
        return false;
      }
    }
  }

  // The form, what would become of it, and the last word.
  void finish() {
    if (choice_.empty()) {
      say(*screen_, title(), "Nothing is chosen yet: Space chooses what stands there.");
      return;
    }
    while (fill_in(*screen_, title(), sum_text(), target_)) {
      const std::vector<std::string> words = words_now();
      if (told([&] { confirm(words); })) return;
    }
  }

  std::vector<std::string> words_now() const {
    std::vector<std::string> words{arguments_.words()[0]};
    for (const TreePath& path : choice_.taken()) words.push_back(printable(path.absolute()));
    words.insert(words.end(), {"--at", points_.number(points_.all()[points_.current()])});
    for (const TreePath& path : choice_.left_out())
      words.insert(words.end(), {"--without", printable(path.absolute())});
    const std::vector<std::string> target = target_options(target_);
    words.insert(words.end(), target.begin(), target.end());
    for (const OptionSpec& option : spec_.options) {
      static constexpr std::string_view picked[] = {"at",   "without", "to",    "in-place",
                                                    "into", "clash",   "layout"};
      if (std::find(std::begin(picked), std::end(picked), option.name) != std::end(picked)) continue;
      if (option.value.empty() && arguments_.has(option.name)) words.push_back("--" + option.name);
      if (option.value.empty()) continue;
      for (const std::string& value : arguments_.values(option.name))
        words.insert(words.end(), {"--" + option.name, value});
    }
    return words;
  }

  void confirm(const std::vector<std::string>& words) {
    busy("Looking what would become of it ...");
    RestoreRequest request = restore_request(Arguments(spec_, words));
    const bool only_dry = request.dry;
    request.dry = true;
    Observer quiet;
    const RestoreResult result =
        restore(points_.chosen().subjects, points_.chosen().at, points_.chosen().wish, request, quiet,
                process_control(), [](const RestoredItem&) {});
    std::string text =
        result_text(result, request, points_.session(points_.all()[points_.current()]).drive_name());
    constexpr std::size_t most_problems = 10;
    for (std::size_t i = 0; i < std::min(most_problems, result.problems.size()); ++i)
      text += (i == 0 ? "\nProblems:\n  " : "  ") + problem_text(result.problems[i]) + "\n";
    if (result.problems.size() > most_problems)
      text += "  and " + grouped(result.problems.size() - most_problems) + " more\n";
    text += "\nThe same as a command:\n\n" + shell_command("restore", words) + "\n";
    std::vector<std::string> lines = page_lines(text, screen_->columns());
    const PickerFrame frame{
        title(), "This is what would become of it. Nothing is written yet.", "",
        std::string("Enter: ") + (only_dry ? "say it again" : "restore now") + "  Esc: back"};
    if (read_lines(*screen_, frame, lines) == Key::enter) words_ = words;
  }

  const VerbSpec& spec_;
  const Arguments& arguments_;
  PickerPoints points_;
  PathChoice choice_;
  TreeView tree_;
  PickedTarget target_;
  bool begin_with_day_;
  std::optional<std::size_t> in_tree_;  // the point whose folders are shown
  PickerScreen* screen_ = nullptr;
  std::vector<std::string> words_;
};

}  // namespace

std::vector<std::string> pick_restore(const VerbSpec& spec, const Arguments& arguments,
                                      const Environment& environment, ChosenPoint& chosen) {
  StopsItself stops_itself;
  RestorePicker picker(spec, arguments, environment, chosen);
  return picker.run();
}

}  // namespace kestrum
