#include "cli/restore_words.hpp"

#include <unistd.h>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "tell/run_log.hpp"

namespace kestrum {

void FileList::add(const RestoredItem& item) {
  // What need not be touched is counted at the end.
  if (!all_ && item.fate == RestoreFate::same) return;
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

void FileList::print() const {
  if (!all_ && count_ <= most) out_lines("{}", lines_);
  if (!all_ && count_ > most)
    out("  {} files; --every shows them, --list FILE writes them down\n", grouped(count_));
}

namespace {

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

}  // namespace

void print_notes(const RestoreResult& result, const RestoreRequest& request) {
  if (result.owners_kept_back)
    err("note: the files belong to you now; only root can give them back to their owners\n");
  if (result.unproved_kept_back)
    err("note: owners, set-id bits and devices were left out: no key says who made this point, so anybody "
        "who could write the drive may have; if you know that nobody did, add --with-owners\n");
  if (result.set_id_left > 0)
    err("note: {} the right to run as their owner (set-id bits); --with-set-id keeps it\n",
        result.set_id_left == 1 ? "1 file lost" : grouped(result.set_id_left) + " files lost");
  if (!request.dry && request.owners == OwnersAs::names) tell_unknown_owners(result);
}

std::string result_text(const RestoreResult& result, const RestoreRequest& request,
                        const std::string& drive) {
  std::vector<std::string> parts{count_text(result.files, "file")};
  if (result.folders > 0) parts.push_back(count_text(result.folders, "folder"));
  if (result.others > 0)
    parts.push_back(count_text(result.others, "link or special file", "links and special files"));
  parts.push_back(size_text(result.bytes));
  std::string text = fmt::format("{} from point {} of {}: {}{}\n", request.dry ? "Would restore" : "Restored",
                                 point_text(result.point), printable(drive), join(parts, ", "),
                                 request.dry ? "" : ", in " + duration_text(result.duration));
  if (request.into == RestoreInto::archive && !request.dry)
    text +=
        fmt::format("  into {}, a file of {}\n", printable(request.target), size_text(result.archive_bytes));
  if (request.into == RestoreInto::folder)
    text += "  " + (request.in_place ? "to where they were" : "into " + printable(request.target)) + "\n";
  auto of_these = [&](std::uint64_t count, const char* what) {
    if (count > 0) text += "  " + grouped(count) + " " + what + "\n";
  };
  of_these(result.beside, "of them beside a file that is there, under a second name");
  of_these(result.replaced,
           request.dry ? "of them would replace what is there" : "of them replaced what was there");
  of_these(result.nearest, "of them from another point: their copies in this one do not read");
  of_these(result.same, "left alone: what is there is identical");
  of_these(result.kept, "left alone: what is there stays, as --clash says");
  if (request.dry && result.room)
    text +=
        fmt::format("At least {} would be written; {} are free there{}.\n", size_text(result.room->needed),
                    size_text(result.room->free), result.room->fits() ? "" : ": it does not fit");
  return text;
}

void print_result(const RestoreResult& result, const RestoreRequest& request, const std::string& drive,
                  const FileList& list, bool all) {
  list.print();
  out("{}", result_text(result, request, drive));
  print_notes(result, request);
  if (result.problems.empty()) return;
  out("{}:\n", count_text(result.problems.size(), "problem"));
  const std::size_t shown =
      all ? result.problems.size() : std::min<std::size_t>(result.problems.size(), problems_shown);
  for (std::size_t i = 0; i < shown; ++i) out("  {}\n", problem_text(result.problems[i]));
  if (shown < result.problems.size())
    out("  and {} more: --every\n", grouped(result.problems.size() - shown));
}

}  // namespace kestrum
