// find.
#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/entry_rows.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/version_lines.hpp"
#include "tell/find_documents.hpp"

namespace kestrum {
namespace {

std::optional<std::uint64_t> size_option(const Arguments& arguments, const std::string& name) {
  const std::optional<std::string> text = arguments.value(name);
  if (!text) return std::nullopt;
  const std::optional<std::uint64_t> size = parse_size(*text);
  if (!size)
    throw Error(ErrorKind::usage, "--" + name + " '" + printable(*text) + "' is no size",
                "write a number and a unit, like 500 KiB or 2 MiB");
  return size;
}

Error no_time(const std::string& name, const std::string& text) {
  return Error(ErrorKind::usage, "--" + name + " '" + printable(text) + "' is no time",
               "write a date, \"2027-03-14 09:30\", yesterday, tuesday, \"last week\" or \"3 days ago\"");
}

NameQuery query_of(const Arguments& arguments, Instant now) {
  NameQuery query;
  query.pattern = arguments.words()[1];
  query.regex = arguments.has("regex");
  query.at_least = size_option(arguments, "larger");
  query.at_most = size_option(arguments, "smaller");
  if (const std::optional<std::string> text = arguments.value("since")) {
    query.since = parse_beginning(*text, now);
    if (!query.since) throw no_time("since", *text);
  }
  if (const std::optional<std::string> text = arguments.value("until")) {
    const std::optional<PointWish> wish = parse_point_wish(*text, now);
    if (!wish || wish->by != PointWish::By::moment) throw no_time("until", *text);
    query.until = wish->moment;
  }
  if (const std::optional<std::string> type = arguments.value("type"))
    query.type = *type == "file"     ? EntryType::file
                 : *type == "folder" ? EntryType::folder
                                     : EntryType::symlink;
  return query;
}

// As many as a person reads, or a program gets in one document.
class Hits {
 public:
  Hits(const Arguments& arguments, const std::vector<LookSession>& subjects, const Environment& environment)
      : arguments_(arguments),
        subjects_(subjects),
        disk_(is_of_here(subjects[0], environment)),
        json_(arguments.has("json")),
        most_(arguments.has("every") ? ~std::uint64_t{0}
              : json_                ? 10000
                                     : 200) {}

  // Those of one path, printed at once: a person who sees what is wanted stops the rest.
  void take(std::vector<FoundVersion> found) {
    if (count_ >= most_) {
      more_ += found.size();
      return;
    }
    count_ += found.size();
    if (!json_) {
      print_versions(arguments_, subjects_, found, disk_, paths_++ == 0);
      return;
    }
    for (FoundVersion& version : found) {
      const Today today = disk_.look(version.entry);
      listed_.push_back({std::move(version), today});
    }
  }
  std::uint64_t count() const { return count_; }
  std::uint64_t more() const { return more_; }
  const std::vector<ListedVersion>& listed() const { return listed_; }

 private:
  const Arguments& arguments_;
  const std::vector<LookSession>& subjects_;
  DiskToday disk_;
  bool json_;
  std::uint64_t most_, count_ = 0, more_ = 0, paths_ = 0;
  std::vector<ListedVersion> listed_;
};

int find_everywhere(const Arguments& arguments, const Environment& environment,
                    std::vector<LookSession>& subjects) {
  const std::string& pattern = arguments.words()[1];
  StopsItself stops_itself;
  Hits hits(arguments, subjects, environment);
  const VersionSearch search =
      find_versions(subjects, query_of(arguments, environment.clock().now()), {}, process_control(),
                    [&](std::vector<FoundVersion> found) { hits.take(std::move(found)); });
  if (arguments.has("json")) {
    print_document(find_everywhere_document(subjects, pattern, hits.listed(), hits.more(), search));
  } else if (hits.count() == 0) {
    out("Nothing in any point fits '{}'.\n", printable(pattern));
  } else {
    if (hits.more() > 0)
      out("\nand {} more versions: use a narrower pattern, or --every\n", grouped(hits.more()));
    out("\n--to . puts a file into the folder you stand in; --in-place where it was, beside what is "
        "there.\n");
  }
  for (const std::string& line : search.unread) err("note: not looked through: {}\n", line);
  return search.unread.empty() ? exit_done : exit_problems;
}

int find_at(const Arguments& arguments, const Environment& environment, ChosenPoint chosen) {
  const std::string& pattern = arguments.words()[1];
  const NameQuery query = query_of(arguments, environment.clock().now());
  std::vector<LookSession> one;
  one.push_back(std::move(chosen.subject()));
  const SetFacts facts = choose_point(one[0].proved_sets(), chosen.wish).facts();
  DiskToday disk(is_of_here(one[0], environment));
  std::vector<ListedVersion> hits;
  const std::uint64_t most = arguments.has("every") ? ~std::uint64_t{0} : 10000;
  std::uint64_t more = 0;
  StopsItself stops_itself;
  const VersionSearch search =
      find_versions(one, query, {.only = PointWish{PointWish::By::number, facts.sequence, {}}},
                    process_control(), [&](std::vector<FoundVersion> found) {
                      if (hits.size() >= most) {
                        ++more;
                        return;
                      }
                      const Today today = disk.look(found.front().entry);
                      hits.push_back({std::move(found.front()), today});
                    });
  if (arguments.has("json")) {
    print_document(find_document(facts, pattern, hits, more));
  } else if (hits.empty()) {
    out("Nothing in point {}{} fits '{}'; without --at all points are looked through.\n", chosen.drive,
        point_text(facts), printable(pattern));
  } else {
    out("Point {}{}: {}\n\n", chosen.drive, point_text(facts), count_text(hits.size() + more, "hit"));
    Table table = entry_table();
    for (const ListedVersion& hit : hits)
      table.row(entry_row(hit.version.entry, hit.version.entry.path.absolute(), hit.today));
    print(table);
    if (more > 0) out("  and {} more: use a narrower pattern, or --every\n", grouped(more));
  }
  for (const std::string& line : search.unread) err("note: not looked through: {}\n", line);
  return search.unread.empty() ? exit_done : exit_problems;
}

int find(const Arguments& arguments, const Environment& environment) {
  if (arguments.has("at") && arguments.has("all"))
    throw Error(ErrorKind::usage, "--at is one point, and --all is every one", "give one of them");
  NameMatcher{query_of(arguments, environment.clock().now())};  // before anything is opened
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  const bool one = arguments.has("at") || (subjects[0].named_set() && !arguments.has("all"));
  if (!one) return find_everywhere(arguments, environment, subjects);
  return find_at(arguments, environment, chosen_of(std::move(subjects), arguments, environment));
}

}  // namespace

Verb find_verb() {
  return {
      {"find",
       "SUBJECT PATTERN",
       "search for names, through all points",
       std::string(
           "PATTERN is a part of the name, or a pattern with * and ?; with a '/' in it, it is "
           "held against the whole path; '*' is everything.\nEvery different version is listed, with "
           "the points that have it, whether that is still on the disk, and the command that brings it "
           "back; with --at, what that point has.\n") +
           subject_words + "\n" + when_words,
       2,
       2,
       with_subject_options({{"all", "", "through all points of all drives (usual)"},
                             {"at", "WHEN", "only in this point"},
                             {"regex", "", "PATTERN is a regular expression, for a part of the whole path"},
                             {"larger", "SIZE", "files of at least this size, like 2 MiB"},
                             {"smaller", "SIZE", "files of at most this size"},
                             {"since", "WHEN", "changed at that time or later; a date is its beginning"},
                             {"until", "WHEN", "changed at that time or before; a date is its end"},
                             {"type", "TYPE", "file, folder or link", false, {"file", "folder", "link"}},
                             {"every", "", "list every one, however many"}}),
       {"kestrum find wardens heron", "kestrum find wardens '*.csv' --at 2027-03-14",
        "kestrum find wardens '*' --type file --larger '5 MiB' --since 'last week'"}},
      find};
}

}  // namespace kestrum
