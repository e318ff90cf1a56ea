// find.
#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/entry_rows.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "engine/version_search.hpp"
#include "tell/find_documents.hpp"

namespace kestrum {
namespace {

std::string weekday_and_day(Instant when) {
  return weekday_text(when) + " " + day_text(when);
}

std::string after_text(const FoundVersion& version) {
  if (version.after == AfterVersion::gone) return "gone since " + weekday_and_day(version.since);
  if (version.after == AfterVersion::changed) return "changed by " + weekday_and_day(version.since);
  return "in the newest point";
}

// Under each path a line a version, with the command that brings it back.
void print_versions(const Arguments& arguments, const std::vector<LookSession>& subjects,
                    const VersionSearch& search) {
  const bool several = subjects.size() > 1;
  const FoundVersion* before = nullptr;
  for (const FoundVersion& version : search.versions) {
    const bool folder = version.entry.type == EntryType::folder;
    if (before == nullptr || before->entry.path != version.entry.path)
      out_lines("{}{}{}\n", before == nullptr ? "" : "\n", printable(version.entry.path.absolute()),
                folder && !version.entry.path.is_root() ? "/" : "");
    before = &version;
    const std::string drive =
        several ? printable(subjects[version.session].drive_name()) + ":" : std::string();
    const bool one = version.points.size() == 1;
    out("  {}, {} {}{}, {}\n",
        folder ? std::string("folder")
               : size_text(version.entry.size) + " of " + local_text(version.entry.modified),
        one ? "point" : "points", drive, sequences_text(version.points), after_text(version));
    const std::string at = drive + std::to_string(version.points.back());
    out_lines("    {} --at {} --to .\n", command_for("restore", arguments, version.entry.path),
              shell_word(at));
  }
}

int find_everywhere(const Arguments& arguments, std::vector<LookSession>& subjects) {
  const std::string& pattern = arguments.words()[1];
  StopsItself stops_itself;
  constexpr std::size_t shown = 200, listed = 10000;
  const VersionSearch search =
      find_versions(subjects, pattern, arguments.has("json") ? listed : shown, process_control());
  if (arguments.has("json")) {
    print_document(versions_document(subjects, pattern, search));
  } else if (search.versions.empty()) {
    out("Nothing in any point has a name like '{}'.\n", printable(pattern));
  } else {
    print_versions(arguments, subjects, search);
    if (search.more > 0) out("\nand {} more versions: use a narrower pattern\n", grouped(search.more));
    out("\n--to . puts a file into the folder you stand in; --in-place where it was, beside what is "
        "there.\n");
  }
  for (const std::string& line : search.unread) err("note: not looked through: {}\n", line);
  return exit_done;
}

int find_at(const Arguments& arguments, ChosenPoint chosen) {
  const std::string& pattern = arguments.words()[1];
  std::vector<Entry> hits;
  constexpr std::size_t most = 10000;
  std::uint64_t count = 0;
  const SetFacts facts = with_current_sets(chosen.subject(), [&] {
    hits.clear();
    count = 0;
    OpenPoint point(chosen.subject(), chosen.wish);
    find_names(point, pattern, [&](const Entry& entry) {
      if (++count <= most) hits.push_back(entry);
    });
    return point.facts();
  });
  if (arguments.has("json")) {
    print_document(find_document(facts, pattern, hits));
  } else if (hits.empty()) {
    out("Nothing in point {}{} has a name like '{}'; without --at all points are looked through.\n",
        chosen.drive, point_text(facts), printable(pattern));
  } else {
    out("Point {}{}: {}\n\n", chosen.drive, point_text(facts), count_text(count, "hit"));
    Table table = entry_table();
    for (const Entry& entry : hits) table.row(entry_row(entry, entry.path.absolute()));
    print(table);
    if (count > most) out("  and {} more: use a narrower pattern\n", count - most);
  }
  return exit_done;
}

int find(const Arguments& arguments, const Environment& environment) {
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  if (!arguments.has("at") && !subjects[0].named_set()) return find_everywhere(arguments, subjects);
  return find_at(arguments, chosen_of(std::move(subjects), arguments, environment));
}

}  // namespace

Verb find_verb() {
  return {
      {"find",
       "SUBJECT PATTERN",
       "search for names, through all points",
       std::string("PATTERN is a part of the name, or a pattern with * and ?; with a '/' in it, it is "
                   "held against the whole path.\nEvery different version is listed, with the points "
                   "that have it and the command that brings it back; with --at, what that point has.\n") +
           subject_words + "\n" + when_words,
       2,
       2,
       with_subject_options({at_option}),
       {"kestrum find wardens heron", "kestrum find wardens '*.csv' --at 2027-03-14"}},
      find};
}

}  // namespace kestrum
