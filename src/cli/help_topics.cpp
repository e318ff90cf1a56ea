#include "cli/help_topics.hpp"

#include <fmt/format.h>

#include "base/text.hpp"
#include "cli/table.hpp"
#include "job/categories.hpp"
#include "job/presets.hpp"
#include "job/usual_list.hpp"

namespace kestrum {
namespace {

using enum Table::Align;

std::string usual_list_text() {
  std::string out =
      "What every job leaves out, unless it says [what] usual-list = \"save\". A pattern of [what] skip that "
      "begins with !\n"
      "takes single ones back: skip = [\"!.cache/\"].\n\n";
  Table table({{"PATTERN", left}, {"WHAT IT IS", left}});
  for (const UsualSkip& skip : usual_list()) table.row({skip.pattern, skip.words});
  return out + table.text();
}

std::string categories_text() {
  std::string out =
      "A category is its standard folders, whole, and files of its types anywhere else in the chosen homes; "
      "hidden folders\n"
      "are not looked through for types. Where people have moved a standard folder (user-dirs.dirs), theirs "
      "counts.\n";
  for (const Category& category : categories()) {
    std::vector<std::string> folders, types;
    for (const char* folder : category.folders)
      folders.push_back(*folder == '\0' ? "~" : std::string("~/") + folder);
    for (const char* type : category.types) types.emplace_back(type);
    out += fmt::format("\n{}: {}\n  folders: {}\n", category.name, category.words, join(folders, "  "));
    std::string line = "  types:  ";
    for (const std::string& type : types) {
      if (line.size() + type.size() > 110) {
        out += line + "\n";
        line = "          ";
      }
      line += " " + type;
    }
    if (!types.empty()) out += line + "\n";
  }
  out += "\nPresets, for job define --preset:\n";
  for (const Preset& preset : presets()) out += fmt::format("  {:<10} {}\n", preset.name, preset.words);
  return out;
}

std::string patterns_text() {
  return R"(Patterns of [what] skip, in the order in which they are tried; the last one that fits decides:

  *.part             a name, in any folder
  scratch/           a folder of that name, in any folder, with all that is in it
  /srv/ringing/raw   that very file or folder, with all that is in it
  drafts/old         old directly in a folder called drafts, in any folder
  ~/Downloads/iso/   in each of the chosen homes
  !keep.part         takes back what an earlier pattern, or the usual list, leaves out

  *     anything but '/'          **    anything, '/' too
  ?     one byte but '/'          [abc] [a-z]   one of these; [!abc] none of these
  \     takes the next character as it is

A pattern speaks of what it fits and of all below it. Sizes and ages ([what] skip-larger, skip-smaller, skip-older,
skip-newer) hold for files whatever the patterns say. What a run would do: kestrum preview JOB --why PATH
)";
}

std::string phrases_text() {
  return R"(Phrases of [when] runs; a kind at the end holds for these runs only:

  by hand                                   once at 2027-03-14 09:30
  hourly at minute 15                       every 20 minutes
  daily at 12:30                            weekdays at 20:30
  monday and friday at 09:00                first sunday at 03:00 full
  monthly on the 15th at 22:00              monthly on the last day at 22:00
  every 3 days from 2027-03-14 at 09:30     every 2 weeks from 2027-03-14 at 09:30
  on change                                 on change, at least every 2 hours
  rrule FREQ=MONTHLY;BYDAY=2TU from 2027-03-09 09:30       (RFC 5545)

Rules of [keep]:

  age = "90 days"            a chain stays until all of it is older
  points = "10 points"       chains = "3 chains"
  thin = ["every point for 14 days", "one a week for 2 months", "one a month for 1 year", "one a year for ever"]
  drive-limit = "85%"        job-limit = "200 GiB"        leave-free = "20 GiB"        at-least = "2 points"
)";
}

std::string mail_text() {
  return R"(Mail about jobs. The server and who gets the mail of all jobs are settings of the machine:

  kestrum settings set --mail-server mail.skerrypoint.example --mail-to office@skerrypoint.example
  kestrum settings check
  kestrum tell wardens --test

A job may name others, and say when: [tell] mail, when, detail.

  problems          as long as something is wrong: when it comes, then after 1, 2 and 4 days, then each week.
                    What comes and goes is told once a day. That a job waits for its drive, or that some files
                    could not be read, is told when it lasts for more than a day; that a run did not start, after
                    an hour
  good again        once, when the problems that were told have gone and a run has made a good point
  every run         what each did; of a job that runs on change once a day
  a digest a day    at 07:00: what the runs did, and how the jobs stand
  a digest a week   the same, on Mondays

Usual are problems and good again. The same people get one mail an hour at most: what happens meanwhile, to
whichever job, goes together into the next. What cannot be sent is tried again after 5 minutes, 15, and each hour,
for two weeks; kestrum status says so.
)";
}

}  // namespace

std::vector<std::string> help_topics() {
  return {"categories", "mail", "patterns", "phrases", "usual-list"};
}

std::optional<std::string> help_topic(const std::string& name) {
  if (name == "categories") return categories_text();
  if (name == "mail") return mail_text();
  if (name == "patterns") return patterns_text();
  if (name == "phrases") return phrases_text();
  if (name == "usual-list") return usual_list_text();
  return std::nullopt;
}

}  // namespace kestrum
