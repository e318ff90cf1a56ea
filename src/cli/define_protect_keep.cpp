// The questions about protection, kind, time, and how long to keep.
#include <unistd.h>

#include "base/error.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/define_dialogue.hpp"
#include "cli/print.hpp"
#include "engine/passphrase_source.hpp"
#include "engine/recovery_place.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {

void DefineQuestions::encryption() {
  ask_.heading("How are they protected?");
  bool yes = ask_.yes(
      "Encrypt the sets, so that the drive alone tells nothing", true,
      "  Whoever finds or steals the drive can read nothing without the passphrase. Without encryption\n"
      "  everybody who has the drive has the files.");
  for (const char* key : {"passphrase", "recovery-key"}) unset("protect", key);
  draft_.new_passphrase.clear();
  draft_.new_recovery.clear();
  draft_.take_public.clear();
  if (yes) {
    unset("protect", "encryption");
  } else {
    set("protect", "encryption", {"none"});
  }
}

// Beside the jobs' folder.
std::string DefineQuestions::own_file(const char* ending) const {
  const std::string folder = environment_.home().jobs_folder();
  return folder.substr(0, folder.rfind('/')) + "/" + draft_.name + ending;
}

void DefineQuestions::passphrase() {
  if (!encrypted()) return;
  std::size_t choice = ask_.choose(
      "The passphrase is",
      {"in a file that only its owner reads, so that the job can run by itself", "asked for at each run"}, 0,
      "  A job that runs at night has nobody to ask. The file is closed to other people of this machine.");
  draft_.new_passphrase.clear();
  if (choice == 1) {
    set("protect", "passphrase", {"ask"});
    return;
  }
  const std::string usual = own_file(".pass");
  while (true) {
    std::string file =
        ask_.text("File", usual, "  A file with the passphrase in it, or one that is to be made.");
    if (!try_value("protect", "passphrase", {"file:" + file})) continue;
    try {
      if (access(file.c_str(), F_OK) == 0) {
        const std::optional<SecretText> there = get_passphrase("file:" + file, "", {});
        out("  It is there, and its passphrase is used.\n");
        if (strong_enough(*there)) return;
        continue;
      }
    } catch (const Error& error) {
      out("  {}\n  {}\n", error.what(), error.hint());
      continue;
    }
    std::string first = ask_.secret("  It is made at the end. A new passphrase (not shown)");
    if (first.empty() || !strong_enough(SecretText(first))) continue;
    if (ask_.secret("  The same again") == first) {
      draft_.new_passphrase = first;
      return;
    }
    out("  The two are not the same.\n");
  }
}

bool DefineQuestions::strong_enough(const SecretText& passphrase) {
  const std::string weakness = weakness_of(passphrase);
  if (weakness.empty()) return true;
  out("  Careful: {}.\n", weakness);
  return ask_.yes("Take it all the same", false, "  Like four words that do not belong together.");
}

bool DefineQuestions::good_place_for_secret(const std::string& file) {
  std::string against = against_secret_at(file, environment_.home());
  // The destination of this very job is in no job file yet.
  for (const std::string& named : value("where", "destinations")) {
    try {
      const std::string root = locate_destination(DestinationAddress::parse(named));
      if (against.empty() &&
          drive_facts(root).device == drive_facts(file.substr(0, file.rfind('/') + 1)).device)
        against = "lies on a destination: whoever has the drive would have its key";
    } catch (const Error&) {
      // Not connected.
    }
  }
  if (against.empty()) return true;
  out("  {} {}.\n", printable(file), against);
  return ask_.yes("Keep it there all the same", false,
                  "  A stick that you take along, and a copy on paper, are better places.");
}

void DefineQuestions::way_back_in() {
  if (!encrypted()) return;
  out("\nNobody can bring back a lost passphrase: not you, not the people who made this program. The copies "
      "are worth nothing then. So there must be a second way in, or a note of it away from this machine.\n");
  unset("protect", "recovery-key");
  draft_.new_recovery.clear();
  draft_.take_public.clear();
  while (true) {
    std::size_t choice = ask_.choose(
        "Your choice",
        {"a new recovery key, kept away from this machine", "a recovery key that there is already",
         "the passphrase is written down"},
        0,
        "  A recovery key is a pair of files. The public part stays here and lets sets be opened by the "
        "secret\n"
        "  part, which you keep elsewhere, with a copy on paper. One key may serve all your machines.");
    if (choice == 2) {
      std::string words =
          ask_.text("Type: it is written down", "",
                    "  Write the passphrase on paper, and put the paper where the machine is not.");
      if (words == "it is written down") return;
      out("  These are not the words.\n");
      continue;
    }
    std::string file =
        ask_.text(choice == 0 ? "File for its secret part, best on a stick that you take along"
                              : "File with its public part",
                  "", "  The full path. The public part has the same name with .pub behind it.");
    if (!file.starts_with('/')) {
      out("  The full path is wanted, like /media/office/skerry{}.\n", choice == 0 ? "" : ".pub");
      continue;
    }
    try {
      if (choice == 1) {
        read_recovery_public(file);
      } else if (access(file.c_str(), F_OK) == 0 || access((file + ".pub").c_str(), F_OK) == 0) {
        throw Error(ErrorKind::usage, printable(file) + " is there already and is not written over",
                    "choose another name");
      } else if (access(file.substr(0, file.rfind('/') + 1).c_str(), W_OK) != 0) {
        throw Error(ErrorKind::usage, "nothing can be written beside " + printable(file),
                    "choose a folder that is there");
      } else if (!good_place_for_secret(file)) {
        continue;
      }
    } catch (const Error& error) {
      out("  {}\n  {}\n", error.what(), error.hint());
      continue;
    }
    if (choice == 0) draft_.new_recovery = file;
    const std::string open_part = choice == 0 ? file + ".pub" : file;
    const std::string own = own_file(".pub");
    const bool keep = open_part != own && access(own.c_str(), F_OK) != 0;
    if (keep) draft_.take_public = open_part;
    set("protect", "recovery-key", {keep ? own : open_part});
    if (keep) out("  The job keeps the public part in {}.\n", printable(own));
    return;
  }
}

void DefineQuestions::kind() {
  ask_.heading("Which kind of sets?");
  std::string all = draft_.count ? size_text(draft_.count->all.bytes) : "everything";
  std::size_t choice = ask_.choose(
      "Your choice",
      {"incremental: each run stores what changed since the run before; smallest and quickest",
       "differential: each run stores what changed since the last full set; grows until the next full one",
       "full: each run stores everything, " + all + " each time before compression"},
      0,
      "  All of them let you go back to every run. An incremental restore looks into several sets, a "
      "differential one\n"
      "  into two, a full one into one. A new full set comes every 30 sets unless you say otherwise.");
  const char* kinds[] = {"incremental", "differential", "full"};
  set("how", "kind", {kinds[choice]});
}

void DefineQuestions::when() {
  ask_.heading("When does it run? How much work can you bear to lose?");
  std::vector<std::string> phrases;
  unset("when", "runs");
  while (true) {
    std::string answer = ask_.text(phrases.empty() ? "When" : "And when else (empty: that is all)",
                                   phrases.empty() ? "daily at 12:30" : "",
                                   "  by hand; daily at 12:30; weekdays at 20:30; monday and friday at "
                                   "09:00; every 20 minutes; hourly at\n"
                                   "  minute 15; first sunday at 03:00 full; monthly on the last day at "
                                   "22:00; every 2 weeks from 2027-03-14\n"
                                   "  at 09:30; on change. A kind at the end holds for these runs only.");
    if (answer.empty()) break;
    if (answer == "by hand" && phrases.empty()) return;
    std::vector<std::string> more = phrases;
    more.push_back(answer);
    if (!try_value("when", "runs", more)) continue;
    phrases = more;
    std::vector<Phrase> parsed;
    for (const std::string& phrase : phrases) parsed.push_back(parse_phrase(phrase));
    std::vector<std::string> next;
    for (const Occurrence& one : next_times(parsed, environment_.clock().now(), 5))
      next.push_back(weekday_text(one.when) + " " + local_text(one.when));
    if (!next.empty()) out("  next: {}\n", join(next, ", "));
  }
  std::size_t missed = ask_.choose("When a run was missed, because the machine or the drive was away",
                                   {"make up for it at the next chance", "skip it"}, 0,
                                   "  A machine that is off at night misses its nightly runs.");
  if (missed == 1) set("when", "if-missed", {"skip"});
}

void DefineQuestions::keep() {
  ask_.heading("How long are they kept?");
  for (const char* key : {"age", "points", "thin", "drive-limit"}) unset("keep", key);
  std::size_t choice = ask_.choose(
      "Your choice",
      {"every point for 14 days, one a week for 2 months, one a month for 1 year", "for a time that you say",
       "a number of points that you say", "as long as there is room"},
      0, "  What another set needs is never removed, and at least two good points stay whatever happens.");
  if (choice == 0)
    set("keep", "thin", {"every point for 14 days", "one a week for 2 months", "one a month for 1 year"});
  while (
      choice == 1 &&
      !try_value("keep", "age", {ask_.text("How long", "90 days", "  Like 90 days, 6 months, 2 years.")})) {
  }
  while (choice == 2 &&
         !try_value("keep", "points", {ask_.text("How many", "10 points", "  Like 10 points.")})) {
  }
  while (!try_value("keep", "drive-limit",
                    {ask_.text("How much of the drive may be used", "85%",
                               "  A full drive is slow and takes nothing more; leave it some air.")})) {
  }
}

void DefineQuestions::around() {
  ask_.heading("Around a run, and afterwards");
  std::string before = ask_.text("Command before each run (empty: none)", "",
                                 "  For instance one that writes a database out into a file.");
  std::string after = ask_.text("Command after each run (empty: none)", "",
                                "  For instance one that starts a program again.");
  for (const char* key : {"before", "after"}) unset("around", key);
  if (!before.empty()) set("around", "before", {before});
  if (!after.empty()) set("around", "after", {after});
  unset("tell", "mail");
  while (true) {
    std::string mail = ask_.text("Mail about problems to (empty: nobody)", "",
                                 "  An address like office@skerrypoint.example.");
    if (mail.empty() || try_value("tell", "mail", {mail})) return;
  }
}

}  // namespace kestrum
