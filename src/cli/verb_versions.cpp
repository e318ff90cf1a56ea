// versions.
#include <algorithm>
#include <set>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/version_lines.hpp"
#include "engine/version_history.hpp"
#include "tell/version_documents.hpp"

namespace kestrum {
namespace {

constexpr std::size_t most_names = 20;

// By the path itself where a point has it, else every name that it is a part of.
// `unread`: what could not be looked through.
std::vector<FileHistory> histories_of(const std::string& text, std::vector<LookSession>& subjects,
                                      std::uint64_t& more, std::vector<std::string>& unread) {
  std::vector<FileHistory> out;
  for (const TreePath& path : wanted_path(text).readings) {
    FileHistory history = file_history(subjects, path, process_control());
    if (!history.names.empty()) {
      unread = history.unread;
      out.push_back(std::move(history));
      return out;
    }
  }
  std::vector<TreePath> names;
  NameQuery query{.pattern = text, .type = EntryType::file};
  const VersionSearch search =
      find_versions(subjects, query, {}, process_control(), [&](const std::vector<FoundVersion>& found) {
        if (names.size() < most_names) {
          names.push_back(found.front().entry.path);
        } else {
          ++more;
        }
      });
  unread = search.unread;
  for (const TreePath& path : names) out.push_back(file_history(subjects, path, process_control()));
  // A name that another one had before stands there.
  std::set<TreePath> earlier;
  for (const FileHistory& one : out) {
    for (const NameHistory& name : one.names) {
      if (&name != &one.names.front()) earlier.insert(name.path);
    }
  }
  std::erase_if(out, [&](const FileHistory& one) { return earlier.contains(one.names.front().path); });
  return out;
}

std::string then_text(const NameHistory& name, const FoundVersion& version) {
  if (version.after == AfterVersion::gone && name.moved_to)
    return "moved to " + printable(name.moved_to->absolute()) + " by " + weekday_and_day(version.since);
  return after_text(version);
}

void print_name(const std::vector<LookSession>& subjects, const NameHistory& name, bool earlier) {
  const bool several = subjects.size() > 1;
  if (earlier) out("\n  Before that its name was\n");
  out_lines("{}{}\n", earlier ? "  " : "", printable(name.path.absolute()));
  using enum Table::Align;
  Table table({{"OF", left}, {"SIZE", right}, {"IN POINTS", left}, {"THEN", left}});
  for (const FoundVersion& version : name.versions) {
    const Entry& entry = version.entry;
    const std::string drive =
        several ? printable(subjects[version.session].drive_name()) + ":" : std::string();
    table.row({local_text(entry.modified),
               entry.has_content() ? size_text(entry.size) : std::string(entry_type_name(entry.type)),
               drive + sequences_text(version.points), then_text(name, version)});
  }
  print(table);
}

std::string today_line(const std::vector<NameHistory>& names, DiskToday& disk) {
  Today today = Today::gone;
  for (const FoundVersion& version : names.front().versions) {
    const Today one = disk.look(version.entry);
    if (one == Today::unknown) return "";
    if (one == Today::same)
      return "On the disk now: the one of " + local_text(version.entry.modified) + ".\n";
    if (one == Today::differs) today = one;
  }
  return today == Today::gone ? "On the disk now: none.\n"
                              : "On the disk now: another one than all of these.\n";
}

void print_history(const Arguments& arguments, const std::vector<LookSession>& subjects,
                   const FileHistory& history, DiskToday& disk) {
  for (const NameHistory& name : history.names) print_name(subjects, name, &name != &history.names.front());
  const std::vector<FoundVersion>& versions = history.names.front().versions;
  const FoundVersion& last =
      *std::max_element(versions.begin(), versions.end(),
                        [](const FoundVersion& a, const FoundVersion& b) { return a.last < b.last; });
  const std::string drive =
      subjects.size() > 1 ? printable(subjects[last.session].drive_name()) + ":" : std::string();
  out("\n{}To have the last one back:\n", today_line(history.names, disk));
  out_lines("  {} --at {} --to .\n", command_for("restore", arguments, last.entry.path),
            shell_word(drive + std::to_string(last.points.back())));
}

int versions(const Arguments& arguments, const Environment& environment) {
  const std::string& wanted = arguments.words()[1];
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  StopsItself stops_itself;
  std::uint64_t more = 0;
  std::vector<std::string> unread;
  const std::vector<FileHistory> histories = histories_of(wanted, subjects, more, unread);
  DiskToday disk(is_of_here(subjects[0], environment));
  if (arguments.has("json")) {
    print_document(versions_document(subjects, wanted, histories, more, disk));
  } else if (histories.empty()) {
    out("Nothing in any point is called '{}', or has that in its name.\n", printable(wanted));
  } else {
    for (const FileHistory& history : histories) {
      if (&history != &histories.front()) out("\n");
      print_history(arguments, subjects, history, disk);
    }
    if (more > 0) out("\nand {} more names: give more of it\n", grouped(more));
  }
  for (const std::string& line : unread) err("note: not looked through: {}\n", line);
  return unread.empty() ? exit_done : exit_problems;
}

}  // namespace

Verb versions_verb() {
  return {{"versions",
           "SUBJECT PATH",
           "list every version of one file",
           std::string(
               "Through all points of all drives that are connected: each different state, the points that "
               "have it, and what became of it; also under the names that the file had before.\nPATH is a "
               "file as it was, from the root, or a part of its name.\n") +
               subject_words,
           2,
           2,
           with_subject_options({}),
           {"kestrum versions wardens /srv/ringing/2026.csv", "kestrum versions wardens budget"}},
          versions};
}

}  // namespace kestrum
