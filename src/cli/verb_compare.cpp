// compare.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/version_lines.hpp"
#include "engine/disk_side.hpp"
#include "engine/file_compare.hpp"
#include "job/job_selection.hpp"
#include "tell/compare_documents.hpp"

namespace kestrum {
namespace {

// What is on both sides, opened.
struct Sides {
  std::unique_ptr<OpenPoint> a, b;  // b: none is the disk
  std::string a_text, b_text;
  bool of_here = false;
};

std::string drive_of(const std::vector<LookSession>& subjects, std::size_t at) {
  return subjects.size() > 1 ? printable(subjects[at].drive_name()) + ":" : std::string();
}

Sides open_sides(const Arguments& arguments, const Environment& environment,
                 std::vector<LookSession>& subjects) {
  const Instant now = environment.clock().now();
  const std::string with = arguments.value("with").value_or("now");
  Sides sides;
  const DrivePoint a = choose_drive(subjects, arguments.value("at"), now);
  sides.of_here = is_of_here(subjects[a.session], environment);
  if (with == "now" && !sides.of_here)
    throw Error(ErrorKind::usage,
                "these points are of the machine " + printable(subjects[a.session].identity().machine) +
                    ", and what is on its disk now is not known here",
                "compare two points: --with WHEN");
  sides.a = std::make_unique<OpenPoint>(subjects[a.session], a.wish);
  sides.a_text = "point " + drive_of(subjects, a.session) + point_text(sides.a->facts());
  sides.b_text = "the disk now";
  if (with == "now") return sides;
  const DrivePoint b = choose_drive(subjects, with, now);
  sides.b = std::make_unique<OpenPoint>(subjects[b.session], b.wish);
  sides.b_text = "point " + drive_of(subjects, b.session) + point_text(sides.b->facts());
  return sides;
}

// What a run of the job would look at; of a subject without a job file, everything there.
Selection selection_for(const LookSession& subject, const Environment& environment, const TreePath& path) {
  const auto quiet = [](const std::string&) {};
  if (subject.job())
    return narrowed(select(subject.job()->what, environment.people(), environment.clock().now(), quiet),
                    path);
  return make_selection({path.absolute()}, {}, quiet);
}

// The path on whichever side has it.
TreePath path_on(Sides& sides, const WantedPath& wanted) {
  try {
    return path_in(*sides.a, wanted);
  } catch (const NoSuchPath&) {
    if (sides.b) return path_in(*sides.b, wanted);
    for (const TreePath& path : wanted.readings) {
      if (DiskToday(true).there(path) != DiskToday::There::nothing) return path;
    }
    throw;
  }
}

void print_change(const TreeChange& change) {
  const Entry& entry = change.entry;
  const bool folder = entry.type == EntryType::folder;
  std::string what = printable(entry.path.absolute()) + (folder ? "/" : "");
  if (change.how == Differs::moved) {
    what = printable(change.before->path.absolute()) + (folder ? "/" : "") + " -> " + what;
    if (change.moved_along > 0) what += "  (with " + count_text(change.moved_along, "file") + ")";
  }
  if (change.how == Differs::attributes) what += "  (" + join(change.attributes, ", ") + ")";
  std::string size = folder                ? "folder"
                     : entry.has_content() ? size_text(entry.size)
                                           : std::string(entry_type_name(entry.type));
  if (change.how == Differs::changed && change.before->size != entry.size && entry.has_content())
    size = size_text(change.before->size) + " -> " + size;
  out_lines("  {:<10}  {:>10}  {}\n", change_word(change.how), size, what);
}

void print_totals(const TreeComparison& result, std::uint64_t hidden) {
  if (hidden > 0) out("  and {} more; --every names them all\n", grouped(hidden));
  std::vector<std::string> parts;
  for (const Differs how :
       {Differs::added, Differs::gone, Differs::changed, Differs::moved, Differs::attributes}) {
    const auto count = result.files.find(how);
    if (count == result.files.end()) continue;
    const std::uint64_t bytes = how == Differs::added     ? result.bytes_added
                                : how == Differs::gone    ? result.bytes_gone
                                : how == Differs::changed ? result.bytes_changed
                                                          : 0;
    const bool sized = how == Differs::added || how == Differs::gone || how == Differs::changed;
    parts.push_back(
        grouped(count->second) + " " +
        (how == Differs::attributes ? "with other attributes only" : std::string(change_word(how))) +
        (sized ? " (" + size_text(bytes) + ")" : ""));
  }
  if (parts.empty() && result.folders == 0) {
    out("Nothing differs.\n");
  } else {
    out("\nFiles: {}; folders that came, went or moved: {}\n", parts.empty() ? "none" : join(parts, ", "),
        grouped(result.folders));
  }
}

int compare_trees(const Arguments& arguments, const TreePath& path, Sides& sides,
                  const std::function<Selection()>& selection) {
  const bool json = arguments.has("json"), list = arguments.has("every");
  constexpr std::uint64_t most_lines = 200, most_listed = 10000;
  const std::uint64_t most = list ? ~std::uint64_t{0} : json ? most_listed : most_lines;
  std::uint64_t shown = 0, hidden = 0;
  std::vector<TreeChange> listed;
  const auto take = [&](const TreeChange& change) {
    if (!json && change.with_folder) return;
    if (shown >= most) {
      ++hidden;
      return;
    }
    ++shown;
    if (json) {
      listed.push_back(change);
    } else {
      print_change(change);
    }
  };
  if (!json) out("From {} to {}: {}\n\n", sides.a_text, sides.b_text, printable(path.absolute()));
  const TreeComparison result = sides.b
                                    ? compare_points(*sides.a, *sides.b, path, process_control(), take)
                                    : compare_with_disk(*sides.a, selection(), path, process_control(), take);
  if (json) {
    print_document(tree_comparison_document(sides.a->facts(), sides.b ? &sides.b->facts() : nullptr, path,
                                            result, listed, hidden));
  } else {
    print_totals(result, hidden);
  }
  for (const std::string& line : result.findings) err("note: not compared: {}\n", line);
  for (const Problem& problem : result.problems)
    err("note: cannot {} {}: {}\n", problem.operation, printable(problem.path), problem.reason);
  if (!result.findings.empty()) return exit_code_of(ErrorKind::damage);
  return result.problems.empty() ? exit_done : exit_problems;
}

std::string side_text(const FileSide& side) {
  if (!side.there) return "not there";
  std::string text = size_text(side.size) + " of " + local_text(side.modified, true);
  if (side.type != EntryType::file)
    text = std::string(entry_type_name(side.type)) + " of " + local_text(side.modified, true);
  return side.sha256.empty() ? text : text + ", SHA-256 " + side.sha256;
}

void print_lines(const std::vector<ChangedLine>& lines) {
  std::uint64_t before = 0, now = 0;
  for (const ChangedLine& line : lines) {
    const bool gap = (line.before > 0 && line.before != before + 1) || (line.now > 0 && line.now != now + 1);
    if (gap && before + now > 0) out_lines("\n");
    before = std::max(before, line.before);
    now = std::max(now, line.now);
    const char* mark = line.how == ChangedLine::How::removed ? "-"
                       : line.how == ChangedLine::How::added ? "+"
                                                             : " ";
    out_lines("  {:>6} {} {}\n", line.now > 0 ? line.now : line.before, mark, printable(line.text));
  }
}

int compare_files(const Arguments& arguments, const TreePath& path, Sides& sides) {
  const FileComparison result = sides.b ? compare_file_points(*sides.a, *sides.b, path, process_control())
                                        : compare_file_disk(*sides.a, path, process_control());
  if (arguments.has("json")) {
    print_document(
        file_comparison_document(sides.a->facts(), sides.b ? &sides.b->facts() : nullptr, path, result));
    return exit_done;
  }
  out_lines("{}\n", printable(path.absolute()));
  out("  {}: {}\n  {}: {}\n\n", sides.a_text, side_text(result.before), sides.b_text, side_text(result.now));
  if (result.same) {
    out("Its content is the same.\n");
  } else if (result.text) {
    print_lines(result.lines);
  } else if (result.before.there && result.now.there) {
    out("Its content differs; it is no text, or too long to be shown by lines.\n");
  }
  return exit_done;
}

int compare(const Arguments& arguments, const Environment& environment) {
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  StopsItself stops_itself;
  Sides sides = open_sides(arguments, environment, subjects);
  const WantedPath wanted = wanted_path(arguments.words().size() > 1 ? arguments.words()[1] : "/");
  const TreePath path = path_on(sides, wanted);
  const auto is_folder = [&](OpenPoint& point) {
    const std::optional<Entry> entry = path.is_root() ? std::nullopt : point.catalog().find(path);
    return path.is_root() || (entry && entry->type == EntryType::folder);
  };
  const bool folder = is_folder(*sides.a) || (sides.b && is_folder(*sides.b)) ||
                      (!sides.b && DiskToday(true).there(path) == DiskToday::There::folder);
  if (!folder) return compare_files(arguments, path, sides);
  return compare_trees(arguments, path, sides, [&] { return selection_for(subjects[0], environment, path); });
}

}  // namespace

Verb compare_verb() {
  return {{"compare",
           "SUBJECT [PATH]",
           "show what differs between two points, or a point and the disk",
           std::string(
               "From the point of --at to that of --with: what is new, gone, changed, moved, or has other "
               "attributes only. Of one text file, the lines that differ; of any other, size, time and "
               "digest.\n") +
               subject_words + "\n" + when_words,
           1,
           2,
           with_subject_options(
               {{"at", "WHEN", "from this point (usual: latest)"},
                {"with", "WHEN|now", "to this point, or to what is on the disk now (usual: now)"},
                {"every", "", "list everything that differs, however much"}}),
           {"kestrum compare wardens /srv/ringing",
            "kestrum compare wardens /srv/ringing --at 'last week' --with latest",
            "kestrum compare wardens /srv/ringing/2026.csv --at tuesday"}},
          compare};
}

}  // namespace kestrum
