// The questions about what is saved, and where to.
#include <unistd.h>

#include <sstream>

#include "base/error.hpp"
#include "base/text.hpp"
#include "cli/define_dialogue.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/table.hpp"
#include "engine/disk_sharing.hpp"
#include "job/categories.hpp"
#include "job/presets.hpp"

namespace kestrum {
namespace {

using enum Table::Align;

// "1 2,4": numbers of the table, each once; nothing when something else stands there.
std::optional<std::vector<std::size_t>> numbers(std::string text, std::size_t most) {
  for (char& c : text) c = c == ',' ? ' ' : c;
  std::istringstream words(text);
  std::vector<std::size_t> out;
  std::string word;
  while (words >> word) {
    if (word.find_first_not_of("0123456789") != std::string::npos || word.size() > 3) return std::nullopt;
    std::size_t number = std::stoul(word);
    if (number < 1 || number > most) return std::nullopt;
    out.push_back(number - 1);
  }
  return out.empty() ? std::nullopt : std::optional(out);
}

}  // namespace

void DefineQuestions::count() {
  Progress progress(environment_, false);
  draft_.count = count_selection(chosen(), environment_.people(), environment_.clock().now(), progress,
                                 process_control());
  progress.finish();
}

// How much the choice so far is, in one line.
void DefineQuestions::show_sum(const std::string& head) {
  FileCount before = draft_.count ? draft_.count->all : FileCount{};
  count();
  const FileCount& now = draft_.count->all;
  std::string more = now.files > before.files   ? count_text(now.files - before.files, "file") + " more"
                     : now.files < before.files ? count_text(before.files - now.files, "file") + " less"
                                                : std::string("makes no difference");
  out("  {}: {}; all together {}, {}\n", head, more, count_text(now.files, "file"), size_text(now.bytes));
}

void DefineQuestions::show_counts() {
  count();
  const SelectionCount& count = *draft_.count;
  Table table({{"", left}, {"FILES", right}, {"SIZE", right}});
  for (const NamedCounts& one : count.categories.empty() ? count.sources : count.categories) {
    FileCount all = one.counts.all();
    table.row({printable(one.name), grouped(all.files), size_text(all.bytes)});
  }
  table.row({"all together", grouped(count.all.files), size_text(count.all.bytes)});
  print(table);
  if (count.problems > 0)
    out("  {} could not be looked into.\n", count_text(count.problems, "file or folder", "files or folders"));
}

void DefineQuestions::what() {
  ask_.heading("What is to be saved?");
  draft_.values.clear();
  std::vector<std::string> choices;
  for (const Preset& preset : presets()) choices.emplace_back(preset.words);
  choices.emplace_back("kinds of files that you choose, in people's homes");
  choices.emplace_back("folders that you name");
  std::size_t choice = ask_.choose(
      "Your choice", choices, 0,
      "  A kind of files is its standard folders and its file types anywhere in the homes. Folders\n"
      "  can be added next, and others left out. Whatever you choose is counted at once.");
  if (choice < presets().size()) {
    draft_.values = presets()[choice].values;
    const bool own = value("what", "people") == std::vector<std::string>{"me"};
    if (own && geteuid() == 0 && !means_root()) return what();
  } else if (choice == presets().size()) {
    std::span<const Category> all = categories();
    for (std::size_t i = 0; i < all.size(); ++i)
      out("  {:>2}  {:<17} {}\n", i + 1, all[i].name, all[i].words);
    while (true) {
      std::string answer = ask_.text("Numbers of the kinds", "1 2 6",
                                     "  For instance: 1 2 6. kestrum help categories says what each takes.");
      if (auto chosen = numbers(answer, all.size())) {
        for (std::size_t number : *chosen) value("what", "categories").emplace_back(all[number].name);
        break;
      }
      out("  Numbers from 1 to {} are wanted, with blanks between.\n", all.size());
    }
    while (true) {
      std::string who = ask_.text(
          "Whose homes: me, everybody, or names", "everybody",
          "  me: whoever runs the job. everybody: all who have an account and a home on this machine,\n"
          "  also those who come later. Or names people log in with, with blanks between.");
      std::vector<std::string> people;
      for (std::string& name : split(who, ' ')) {
        if (!name.empty()) people.push_back(std::move(name));
      }
      if (!try_value("what", "people", people)) continue;
      try {
        show_counts();
        return;
      } catch (const Error& error) {
        out("  {}\n  {}\n", error.what(), error.hint());
      }
    }
  } else {
    return;
  }
  show_counts();
}

// Who is root for a moment rarely means root's own files.
bool DefineQuestions::means_root() {
  out("  Careful: you are root now. \"Your own files\" are those of root, in {}, not those of the person who "
      "sits here.\n",
      printable(environment_.people().me.home));
  return ask_.yes("Save the files of root", false,
                  "  The second choice takes everybody's home; the fourth asks whose.");
}

void DefineQuestions::more_folders() {
  bool needed = !is_set("what", "categories") && !is_set("what", "folders");
  std::vector<std::string> folders =
      is_set("what", "folders") ? value("what", "folders") : std::vector<std::string>{};
  while (true) {
    std::string answer = ask_.text(
        needed && folders.empty() ? "A folder or file to save" : "Another folder or file (empty: no more)",
        "", "  Its full path, like /srv/ringing. Each is counted as you name it.");
    if (answer.empty() && needed && folders.empty()) continue;
    if (answer.empty()) return;
    std::vector<std::string> more = folders;
    more.push_back(answer);
    if (access(answer.c_str(), F_OK) != 0) {
      out("  There is no {} on this machine.\n", printable(answer));
      continue;
    }
    if (!try_value("what", "folders", more)) continue;
    folders = more;
    show_sum(printable(answer));
  }
}

void DefineQuestions::leave_out() {
  out("Trash, caches and temporary files are left out (kestrum help usual-list says which).\n");
  std::vector<std::string> skip = is_set("what", "skip") ? value("what", "skip") : std::vector<std::string>{};
  while (true) {
    std::string answer = ask_.text(
        "Leave out besides (empty: nothing more)", "",
        "  A name like *.part, a folder like scratch/, a path like /srv/ringing/tmp. A pattern that begins\n"
        "  with ! takes back what an earlier one leaves out; the last one that fits wins.");
    if (answer.empty()) break;
    std::vector<std::string> more = skip;
    more.push_back(answer);
    if (!try_value("what", "skip", more)) continue;
    skip = more;
    show_sum(printable(answer));
  }
  if (!draft_.count || draft_.count->all.files > 0) return;
  out("  Careful: there is no file in what you have chosen.\n");
  if (!ask_.yes("Go on with nothing to save", false, "  No: back to what is to be saved.")) throw WentBack{};
}

// Numbered, as destinations: by label where there is one.
std::size_t DefineQuestions::show_drives(std::vector<std::string>& destinations) {
  std::size_t usual = 0;
  std::pair<bool, std::uint64_t> best;  // removable, bytes free
  Selection selection =
      select(chosen(), environment_.people(), environment_.clock().now(), [](const std::string&) {});
  Table table({{"", right}, {"DRIVE", left}, {"SIZE", right}, {"FREE", right}, {"", left}});
  destinations.clear();
  for (const DriveFacts& drive : possible_drives()) {
    if (drive.mount == "/" || drive.read_only) continue;
    destinations.push_back(drive.label.empty() ? drive.mount : "label:" + drive.label);
    std::vector<std::string> remarks{drive.type};
    if (drive.removable) remarks.emplace_back("removable");
    if (drive.network) remarks.emplace_back("on another machine");
    if (drive.largest_file && drive.largest_file_known)
      remarks.push_back("files of up to " + size_text(*drive.largest_file));
    const bool shared = !shared_disk(selection, drive.mount, drive).empty();
    if (shared) remarks.emplace_back("THE DISK OF THE FILES THEMSELVES");
    const std::pair<bool, std::uint64_t> merit{drive.removable, drive.free};
    if (!shared && !drive.memory && (usual == 0 || best < merit)) {
      usual = destinations.size();
      best = merit;
    }
    table.row({std::to_string(destinations.size()),
               printable(drive.mount) + (drive.label.empty() ? "" : " (" + printable(drive.label) + ")"),
               size_text(drive.total), size_text(drive.free), join(remarks, ", ")});
  }
  if (destinations.empty()) {
    out("  No other drive is mounted here. Connect one and press Enter, or name a folder.\n");
  } else {
    print(table);
  }
  if (usual > 0)
    out("  Usual is {}: {} with the most room.\n", usual,
        best.first ? "of the removable drives the one" : "no drive is removable; it is the one");
  return usual;
}

// A first set holds everything that was chosen.
bool DefineQuestions::fits(const DriveFacts& drive) {
  if (!draft_.count || draft_.count->all.bytes <= drive.free) return true;
  out("  Careful: {} are chosen (before compression), and {} are free there.\n",
      size_text(draft_.count->all.bytes), size_text(drive.free));
  return ask_.yes("Take it all the same", false, "  Better: a larger drive, or less to save.");
}

// Says what is wrong with it, and false, so that it is asked again.
bool DefineQuestions::take_destination(const std::string& destination) {
  unset("where", "same-disk");
  if (!try_value("where", "destinations", {destination})) return false;
  Job job = parse_job(draft_.name, "", job_text(draft_.name, draft_.values));
  DestinationView view;
  try {
    view = view_destination(job, environment_.people(), environment_.clock().now());
  } catch (const Error& error) {
    out("  {}\n  {}\n", error.what(), error.hint());
    return false;
  }
  if (!view.trouble.empty()) {
    out("  {}\n", view.trouble);
    if (!ask_.yes("  Take it all the same", false,
                  "  It can be mended before the first run; until then runs fail."))
      return false;
  }
  if (view.drive)
    out("  {}: {}; {} free.\n", printable(view.root), view.drive->text(), size_text(view.drive->free));
  if (view.drive && !fits(*view.drive)) return false;
  if (view.shared.empty()) return true;
  out("\n  Careful: {}.\n  A backup on the same disk helps against slips of the finger, not against a broken "
      "or stolen disk.\n",
      view.shared);
  if (!ask_.yes("  Save onto the same disk all the same", false,
                "  Better: connect another drive, and choose that one."))
    return false;
  set("where", "same-disk", {"accept"});
  return true;
}

void DefineQuestions::where() {
  ask_.heading("Where do the copies go?");
  std::vector<std::string> destinations;
  while (true) {
    const std::size_t usual = show_drives(destinations);
    std::string answer = ask_.text(
        "A number, or a folder", usual == 0 ? "" : std::to_string(usual),
        "  Another drive than the one with the files: a path like /media/tern-1, or label:NAME, which is "
        "found\n"
        "  wherever the drive is mounted, with /FOLDER behind it if the copies should not lie at its top.");
    if (answer.empty()) continue;
    if (auto number = numbers(answer, destinations.size()); number && number->size() == 1)
      answer = destinations[number->front()];
    if (take_destination(answer)) return;
    unset("where", "destinations");
  }
}

}  // namespace kestrum
