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
#include "cli/verbs.hpp"
#include "tell/documents.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

// The option's choices have been checked.
template <typename Value>
Value choice(const Arguments& arguments, const std::string& option, Value usual,
             std::optional<Value> (*parse)(std::string_view)) {
  std::optional<std::string> text = arguments.value(option);
  return text ? *parse(*text) : usual;
}

std::optional<OwnerAccount> owner_of(const Arguments& arguments) {
  const std::optional<std::string> name = arguments.value("owner");
  if (!name) return std::nullopt;
  const std::optional<OwnerAccount> account = find_account(*name);
  if (!account)
    throw Error(ErrorKind::usage, "there is no account '" + printable(*name) + "' on this machine",
                "create it first, or name another one");
  if (geteuid() != 0 && account->user != geteuid())
    throw Error(ErrorKind::usage, "only root can give files to somebody else",
                "run it as root, or leave --owner away: the files belong to you then");
  return account;
}

// Files of people whom this machine does not know are easily taken for somebody else's.
void tell_unknown_owners(const RestoreResult& result) {
  if (result.unknown_owners.empty() || geteuid() != 0) return;
  std::vector<std::string> parts;
  for (const auto& [name, number] : result.unknown_owners) {
    const std::string here = account_name(number);
    parts.push_back(printable(name) + " (number " + std::to_string(number) +
                    (here.empty() ? ")" : ", which is " + printable(here) + " here)"));
  }
  err("note: no account of this machine: {}; such files kept the number that they had; to give them to "
      "somebody: --owner NAME\n",
      join(parts, ", "));
}

RestoreRequest request_of(const Arguments& arguments) {
  RestoreRequest request;
  for (std::size_t i = 1; i < arguments.words().size(); ++i) {
    request.paths.push_back(wanted_path(arguments.words()[i]));
  }
  std::optional<std::string> to = arguments.value("to");
  request.in_place = arguments.has("in-place");
  if (to.has_value() == request.in_place) {
    throw Error(ErrorKind::usage, "say where to: --to DIR, or --in-place for where the files were",
                "nothing was restored");
  }
  if (to && to->empty()) throw Error(ErrorKind::usage, "--to needs a folder", "--to DIR");
  request.target = to ? std::filesystem::absolute(*to).lexically_normal().string() : "/";
  while (request.target.size() > 1 && request.target.ends_with('/')) request.target.pop_back();
  request.clash = choice(arguments, "clash", Clash::keep_both, parse_clash);
  request.layout = choice(arguments, "layout", Layout::picked, parse_layout);
  request.devices = arguments.has("devices");
  if (request.devices && !request.in_place)
    throw Error(ErrorKind::usage, "--devices writes images back over their devices and needs --in-place",
                "with --to DIR an image is restored as a file");
  request.with_owners = arguments.has("with-owners");
  request.owner = owner_of(arguments);
  request.dry = arguments.has("dry");
  return request;
}

// What was restored, one a line: as it comes with --list, else at the end, and only as many as a person
// reads.
class FileList {
 public:
  FileList(bool all, Progress& progress) : all_(all), progress_(progress) {}
  void add(const RestoredItem& item) {
    const std::string line =
        "  " + printable(item.placed) +
        (item.fate == RestoreFate::put ? "" : "  (" + std::string(fate_text(item.fate)) + ")") + "\n";
    ++count_;
    if (all_) {
      progress_.finish();
      out_lines("{}", line);
    } else if (count_ <= most) {
      lines_ += line;
    }
  }
  void print() const {
    if (!all_ && count_ <= most) out_lines("{}", lines_);
    if (!all_ && count_ > most) out("  {} files; --list names them\n", grouped(count_));
  }

 private:
  static constexpr std::uint64_t most = 40;
  bool all_;
  Progress& progress_;
  std::uint64_t count_ = 0;
  std::string lines_;
};

void print_result(const RestoreResult& result, const RestoreRequest& request, const std::string& drive,
                  const FileList& list, bool all) {
  list.print();
  std::vector<std::string> parts{count_text(result.files, "file")};
  if (result.folders > 0) parts.push_back(count_text(result.folders, "folder"));
  if (result.others > 0)
    parts.push_back(count_text(result.others, "link or special file", "links and special files"));
  parts.push_back(size_text(result.bytes));
  out("{} from point {}{}: {}\n", request.dry ? "Would restore" : "Restored", drive, point_text(result.point),
      join(parts, ", "));
  auto of_these = [](std::uint64_t count, const char* what) {
    if (count > 0) out("  {} {}\n", grouped(count), what);
  };
  of_these(result.beside, "of them beside a file that is there, under a second name");
  of_these(result.replaced,
           request.dry ? "of them would replace what is there" : "of them replaced what was there");
  of_these(result.same, "left alone: what is there is identical");
  of_these(result.kept, "left alone: what is there stays, as --clash says");
  if (request.dry && result.room)
    out("At least {} would be written; {} are free there{}.\n", size_text(result.room->needed),
        size_text(result.room->free), result.room->fits() ? "" : ": it does not fit");
  if (result.owners_kept_back)
    err("note: the files belong to you now; only root can give them back to their owners\n");
  if (result.unproved_kept_back)
    err("note: owners, set-id bits and devices were left out: no key says who made this point, so anybody "
        "who "
        "could write the drive may have; if you know that nobody did, add --with-owners\n");
  if (!request.dry) tell_unknown_owners(result);
  if (result.problems.empty()) return;
  out("{}:\n", count_text(result.problems.size(), "problem"));
  const std::size_t shown =
      all ? result.problems.size() : std::min<std::size_t>(result.problems.size(), problems_shown);
  for (std::size_t i = 0; i < shown; ++i) out("  {}\n", problem_text(result.problems[i]));
  if (shown < result.problems.size()) out("  and {} more: --list\n", grouped(result.problems.size() - shown));
}

int restore_paths(const Arguments& arguments, const Environment& environment) {
  RestoreRequest request = request_of(arguments);
  ChosenPoint chosen = open_at(arguments, environment);
  Progress progress(environment, arguments.has("quiet"), arguments.has("list"));
  StopsItself stops_itself;
  bool json = arguments.has("json");
  std::vector<RestoredItem> items;
  std::uint64_t listed = 0;
  constexpr std::size_t most_items = 10000;
  FileList list(arguments.has("list"), progress);
  auto take = [&](const RestoredItem& item) {
    if (json) {
      ++listed;
      if (items.size() < most_items || arguments.has("list")) items.push_back(item);
    } else if (item.type != EntryType::folder) {
      list.add(item);
    }
  };
  auto restore_now = [&] {
    try {
      return restore(chosen.subject(), chosen.wish, request, progress, process_control(), take);
    } catch (...) {
      // What was restored before it broke off is there.
      progress.finish();
      if (!json) list.print();
      throw;
    }
  };
  RestoreResult result;
  try {
    result = restore_now();
  } catch (const NoSuchPath& missing) {
    progress.finish();
    const bool any_point = !arguments.has("at") && request.paths.size() == 1 && !chosen.subject().named_set();
    const Error where = say_where_last(missing, chosen, arguments, "restore");
    // Whoever names no point means the file as it was last.
    if (!any_point || chosen.wish.by == PointWish::By::latest) throw where;
    err("note: {}\n  {}\n", missing.what(), where.hint().substr(0, where.hint().find('\n')));
    result = restore_now();
  }
  progress.finish();
  if (json) {
    print_document(restore_document(result, items, listed));
  } else {
    print_result(result, request, chosen.drive, list, arguments.has("list"));
  }
  if (result.damaged) return exit_code_of(ErrorKind::damage);
  if (request.dry && result.room && !result.room->fits()) return exit_code_of(ErrorKind::full);
  return result.problems.empty() ? exit_done : exit_problems;
}

}  // namespace

Verb restore_verb() {
  return {{"restore",
           "SUBJECT PATH...",
           "bring files back",
           std::string("PATH is a file or folder as it was, from the root; / is everything.\n") +
               subject_words + "\n" + when_words +
               "\nWhat is there already is kept, and the restored file put beside it, unless --clash says "
               "otherwise.",
           2,
           100000,
           with_subject_options(
               {{"at", "WHEN", "the point (usual: latest)"},
                {"to", "DIR", "restore into this folder"},
                {"in-place", "", "restore to where the files were"},
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
                {"dry", "", "only say what would be restored, and what becomes of what is there"},
                {"list", "", "list every file, however many"},
                {"quiet", "", "no progress"}}),
           {"kestrum restore wardens /srv/ringing/2026.csv --at yesterday --to /tmp/back",
            "kestrum restore /media/tern-1 / --job wardens --to /tmp/everything --layout path",
            "kestrum restore wardens /srv/ringing --in-place --clash keep-newer --dry"}},
          restore_paths};
}

}  // namespace kestrum
