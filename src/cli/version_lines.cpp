#include "cli/version_lines.hpp"

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"

namespace kestrum {
namespace {

std::string today_text(Today today) {
  switch (today) {
    case Today::unknown:
      return "";
    case Today::same:
      return ", on the disk now";
    case Today::differs:
      return ", another one on the disk now";
    case Today::gone:
      return ", not on the disk now";
  }
  return "";
}

}  // namespace

bool is_of_here(const LookSession& subject, const Environment& environment) {
  return subject.has_identity() && subject.identity().machine == environment.machine();
}

std::string weekday_and_day(Instant when) {
  return weekday_text(when) + " " + day_text(when);
}

std::string after_text(const FoundVersion& version) {
  if (version.after == AfterVersion::gone) return "gone since " + weekday_and_day(version.since);
  if (version.after == AfterVersion::changed) return "changed by " + weekday_and_day(version.since);
  return "in the newest point";
}

void print_versions(const Arguments& arguments, const std::vector<LookSession>& subjects,
                    const std::vector<FoundVersion>& versions, DiskToday& disk, bool first) {
  const bool several = subjects.size() > 1;
  const Entry& one = versions.front().entry;
  const bool folder = one.type == EntryType::folder && !one.path.is_root();
  out_lines("{}{}{}\n", first ? "" : "\n", printable(one.path.absolute()), folder ? "/" : "");
  for (const FoundVersion& version : versions) {
    const std::string drive =
        several ? printable(subjects[version.session].drive_name()) + ":" : std::string();
    out("  {}, {} {}{}, {}{}\n",
        version.entry.type == EntryType::folder
            ? std::string("folder")
            : size_text(version.entry.size) + " of " + local_text(version.entry.modified),
        version.points.size() == 1 ? "point" : "points", drive, sequences_text(version.points),
        after_text(version), today_text(disk.look(version.entry)));
    out_lines("    {} --at {} --to .\n", command_for("restore", arguments, version.entry.path),
              shell_word(drive + std::to_string(version.points.back())));
  }
  std::fflush(stdout);
}

}  // namespace kestrum
