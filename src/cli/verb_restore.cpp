// restore.
#include <fmt/format.h>
#include <unistd.h>

#include <filesystem>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/restore_picker.hpp"
#include "cli/restore_request.hpp"
#include "cli/restore_words.hpp"
#include "cli/verbs.hpp"
#include "engine/file_compare.hpp"
#include "engine/history.hpp"
#include "ledger/restore_book.hpp"
#include "tell/documents.hpp"
#include "tell/restore_list.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

// A terminal takes text only: the file is looked at before anything of it is shown.
void refuse_binary_to_terminal(ChosenPoint& chosen, const RestoreRequest& request) {
  if (request.into != RestoreInto::stream || isatty(STDOUT_FILENO) == 0) return;
  OpenPoint point(chosen.subject(), chosen.wish);
  const std::optional<Entry> entry = point.catalog().find(path_in(point, request.paths.at(0)));
  if (!entry || !entry->has_content() || is_plain_text(point, *entry)) return;
  throw Error(ErrorKind::usage,
              printable(entry->path.absolute()) + " is no text, and standard output is a terminal",
              "send it into a file or to a program: ... --into - > FILE");
}

// What is told of each thing while it is restored: on the screen, in the document, in the list.
class Told {
 public:
  Told(const Arguments& arguments, const RestoreRequest& request, Progress& progress)
      : json_(arguments.has("json")),
        every_(arguments.has("every")),
        silent_(request.into == RestoreInto::stream),
        whole_(request.into == RestoreInto::archive),
        lines_(every_, progress) {
    if (const std::optional<std::string> path = arguments.value("list")) list_.emplace(*path);
  }
  void add(const RestoredItem& item) {
    if (list_) list_->add(item);
    if (json_) {
      constexpr std::size_t most_items = 10000;
      ++count_;
      if (items_.size() < most_items || every_) items_.push_back(item);
    } else if (item.type != EntryType::folder && !silent_) {
      lines_.add(item);
    }
  }
  // It broke off; what was restored before is there, but for a file that is whole or not there.
  void broke_off() {
    if (whole_) return;
    if (list_) list_->finish();
    if (!json_ && !silent_) lines_.print();
  }
  void finish(const RestoreResult& result, const RestoreRequest& request, const std::string& drive) {
    if (list_) list_->finish();
    if (json_) {
      print_document(restore_document(result, items_, count_));
    } else if (silent_) {
      print_notes(result, request);
      for (const Problem& problem : result.problems) err("{}\n", problem_text(problem));
    } else {
      print_result(result, request, drive, lines_, every_);
    }
  }

 private:
  bool json_, every_, silent_, whole_;
  FileList lines_;
  std::optional<RestoreList> list_;
  std::vector<RestoredItem> items_;
  std::uint64_t count_ = 0;
};

// With --nearest a number that is no point's any more is fine.
ChosenPoint choose_for(const Arguments& arguments, const Environment& environment, bool nearest) {
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  const std::optional<PointWish> wish =
      parse_point_wish(arguments.value("at").value_or("latest"), environment.clock().now());
  const bool missing = nearest && wish && wish->by == PointWish::By::number && subjects.size() == 1 &&
                       subjects[0].proved_sets().sealed(wish->number) == nullptr;
  if (!missing) return chosen_of(std::move(subjects), arguments, environment);
  return ChosenPoint{std::move(subjects), 0, *wish, {}};
}

// History is never worth a restore.
void remember(const Environment& environment, const LookSession& subject, const RestoreRequest& request,
              const RestoreResult& result, Instant started, RunResult how) {
  if (request.dry || !subject.has_identity()) return;
  try {
    History history =
        History::open(environment.home(), [](const std::string& text) { err("note: {}\n", text); });
    if (history.ledger() == nullptr) return;
    RestoreEntry entry;
    entry.job = subject.job() ? subject.job()->name : subject.identity().name;
    entry.machine = subject.identity().machine;
    entry.drive = subject.drive_name();
    entry.point = result.point.sequence;
    entry.point_started = result.point.started;
    entry.started = started;
    entry.seconds = std::chrono::duration_cast<std::chrono::seconds>(result.duration).count();
    entry.result = how;
    entry.where = request.into == RestoreInto::stream ? "-" : request.target;
    entry.files = result.files + result.others;
    entry.bytes = result.bytes;
    entry.left_alone = result.kept + result.same;
    entry.problems = result.problems.size();
    RestoreBook(*history.ledger()).add(entry);
  } catch (const Error& error) {
    err("note: that this was restored is not remembered: {}\n", error.what());
  }
}

RestoreResult restore_told(const Arguments& arguments, const Environment& environment, ChosenPoint& chosen,
                           const RestoreRequest& request, Progress& progress, Told& told) {
  const auto restore_now = [&] {
    const Instant started = environment.clock().now();
    RestoreResult so_far;
    try {
      refuse_binary_to_terminal(chosen, request);
      return restore(chosen.subjects, chosen.at, chosen.wish, request, progress, process_control(),
                     [&](const RestoredItem& item) {
                       told.add(item);
                       so_far.point.sequence = item.point;
                       so_far.files += item.type == EntryType::folder ? 0 : 1;
                     });
    } catch (const NoSuchPath&) {
      throw;
    } catch (...) {
      progress.finish();
      told.broke_off();
      if (const FoundSet* const set = chosen.subject().sets().sealed(so_far.point.sequence))
        so_far.point = set->facts();
      const bool stopped = process_control().stop_requested();
      if (so_far.files > 0 && request.into == RestoreInto::folder)
        remember(environment, chosen.subject(), request, so_far, started,
                 stopped ? RunResult::stopped : RunResult::failed);
      throw;
    }
  };
  try {
    return restore_now();
  } catch (const NoSuchPath& missing) {
    progress.finish();
    const bool any_point = !arguments.has("at") && request.paths.size() == 1 && !chosen.subject().named_set();
    const Error where = say_where_last(missing, chosen, arguments, "restore");
    // Whoever names no point means the file as it was last.
    if (!any_point || chosen.wish.by == PointWish::By::latest) throw where;
    err("note: {}\n  {}\n", missing.what(), where.hint().substr(0, where.hint().find('\n')));
    return restore_now();
  }
}

int restore_from(const Arguments& arguments, const Environment& environment, const RestoreRequest& request,
                 ChosenPoint chosen) {
  Progress progress(environment, arguments.has("quiet"), arguments.has("every"));
  StopsItself stops_itself;
  Told told(arguments, request, progress);
  const Instant started = environment.clock().now();
  const RestoreResult result = restore_told(arguments, environment, chosen, request, progress, told);
  progress.finish();
  told.finish(result, request, chosen.subject().drive_name());
  const bool all = result.problems.empty() && !result.damaged;
  remember(environment, chosen.subject(), request, result, started,
           all ? RunResult::done : RunResult::done_with_problems);
  if (result.damaged) return exit_code_of(ErrorKind::damage);
  if (request.dry && result.room && !result.room->fits()) return exit_code_of(ErrorKind::full);
  return result.problems.empty() ? exit_done : exit_problems;
}

int restore_picked(const Arguments& arguments, const Environment& environment) {
  const VerbSpec spec = restore_verb().spec;
  if (!environment.in_and_out_are_terminals() || arguments.has("json"))
    throw Error(ErrorKind::usage, "say what to restore: the file or folder as it was, or / for everything",
                "on a terminal, without --json, it can be chosen by keys");
  ChosenPoint chosen = open_at(arguments, environment);
  const std::vector<std::string> words = pick_restore(spec, arguments, environment, chosen);
  out_lines("{}\n", shell_command("restore", words));
  const Arguments picked(spec, words);
  return restore_from(picked, environment, restore_request(picked), std::move(chosen));
}

int restore_paths(const Arguments& arguments, const Environment& environment) {
  if (arguments.words().size() == 1) return restore_picked(arguments, environment);
  const RestoreRequest request = restore_request(arguments);
  return restore_from(arguments, environment, request, choose_for(arguments, environment, request.nearest));
}

}  // namespace

Verb restore_verb() {
  return {
      {"restore",
       "SUBJECT [PATH...]",
       "bring files back",
       std::string("PATH is a file or folder as it was, from the root; / is everything. Without one, on a "
                   "terminal, day, files and target are chosen by keys.\n") +
           subject_words + "\n" + when_words +
           "\nWhat is there already is kept, and the restored file put beside it, unless --clash says "
           "otherwise.",
       1,
       100000,
       with_subject_options(
           {{"at", "WHEN", "the point (usual: latest)"},
            {"without", "PATH", "but not this file or folder", true},
            {"to", "DIR", "restore into this folder"},
            {"in-place", "", "restore to where the files were"},
            {"into", "FILE",
             "make one new file of them, .zip or .tar.zst, for other programs; -: one file to standard "
             "output"},
            {"clash",
             "RULE",
             "keep-both, replace, keep-existing or keep-newer (usual: keep-both)",
             false,
             {"keep-both", "replace", "keep-existing", "keep-newer"}},
            {"layout",
             "HOW",
             "folders under DIR: path (all of them), picked (from what was picked), flat (none) (usual: "
             "picked)",
             false,
             {"path", "picked", "flat"}},
            {"devices", "", "with --in-place: write images of devices over the devices they are of"},
            {"with-owners", "",
             "owners, set-id bits and devices also from sets that anybody could have made (not "
             "encrypted, or opened with a recovery key only)"},
            {"owner", "NAME", "everything is to belong to this account (root only)"},
            {"owners",
             "HOW",
             "files belong to the accounts here of the same name or number, or are mine (usual: name)",
             false,
             {"name", "number", "mine"}},
            {"with-set-id", "",
             "keep the right of programs to run as their owner also where root does not restore in place"},
            {"map", "FROM=TO", "what was below FROM goes below TO: /home/anna=/home/a.berg", true},
            {"nearest", "",
             "what this point has no good copy of, or the point itself where it does not open, from the "
             "nearest one that has"},
            {"dry", "", "only say what would be restored, and what becomes of what is there"},
            {"list", "FILE", "write down every file with its digest, as .csv or .json"},
            {"every", "", "show every file, however many"},
            {"quiet", "", "no progress"}}),
       {"kestrum restore wardens",
        "kestrum restore wardens /srv/ringing/2026.csv --at yesterday --to /tmp/back",
        "kestrum restore /media/tern-1 / --job wardens --to /tmp/everything --layout path",
        "kestrum restore wardens /srv/ringing --in-place --clash keep-newer --dry",
        "kestrum restore wardens /srv/ringing --at 'last week' --into /tmp/ringing.zip",
        "kestrum restore /media/tern-1 /home/anna --in-place --map /home/anna=/home/a.berg"}},
      restore_paths};
}

}  // namespace kestrum
