#include "job/job_keys.hpp"

#include <algorithm>

#include "base/destination_address.hpp"
#include "base/error.hpp"
#include "base/text.hpp"
#include "job/key_setters.hpp"

namespace kestrum {
namespace {

constexpr bool list = true;
constexpr bool one = false;

constexpr JobKey keys[] = {
    {"what", "description", one, "TEXT", "none", "what the job is for, in your words: shown with it",
     set_description},
    {"what", "people", list, "WHO", "me",
     "whose homes the categories are looked for in: me, everybody, or account names", set_people},
    {"what", "categories", list, "CATEGORY", "none",
     "kinds of files in those homes, like documents or pictures (kestrum help categories)", set_categories},
    {"what", "folders", list, "FOLDER", "none", "folders and files to save", set_folders},
    {"what", "skip", list, "PATTERN", "nothing",
     "leave these out: *.part, scratch/, /srv/x; !PATTERN takes back (kestrum help patterns)", set_skip},
    {"what", "usual-list", one, "WHAT", "leave out",
     "trash, caches and temporary files: leave out or save (kestrum help usual-list)", set_usual_list},
    {"what", "hidden", one, "WHAT", "save", "names that begin with a dot: save or leave out", set_hidden},
    {"what", "mounted-below", one, "WHAT", "save",
     "other file systems mounted below a source: save or leave out", set_mounted_below},
    {"what", "cache-tags", one, "WHAT", "leave out",
     "what is in folders marked by a CACHEDIR.TAG: leave out or save", set_cache_tags},
    {"what", "skip-larger", one, "SIZE", "no limit", "leave out files larger than that", set_skip_larger},
    {"what", "skip-smaller", one, "SIZE", "no limit", "leave out files smaller than that", set_skip_smaller},
    {"what", "skip-older", one, "LENGTH", "no limit",
     "leave out files not changed for so long, like \"5 years\"", set_skip_older},
    {"what", "skip-newer", one, "LENGTH", "no limit", "leave out files changed within that time",
     set_skip_newer},
    {"where", "destinations", list, "FOLDER", "",
     "folder on another drive, under which the sets are kept: a path, label:NAME or uuid:UUID",
     set_destinations},
    {"where", "use", one, "WHICH", "whichever is connected",
     "of several destinations: \"whichever is connected\" (in turns), \"all connected\", or \"next when "
     "full\"",
     set_use},
    {"where", "same-disk", one, "WHAT", "refuse",
     "a destination on the same disk as a source: refuse or accept", set_same_disk},
    {"where", "mount", one, "WHEN", "as it is",
     "\"for each run\": root mounts a drive named by label or UUID itself, and only while a run needs it",
     set_mount},
    {"where", "program", one, "WHAT", "leave out",
     "a copy of this program beside the sets, for a machine that has none: \"leave out\" or \"put there\"",
     set_program},
    {"where", "attach", one, "COMMAND", "nothing",
     "command that makes the destination reachable before each run", set_attach},
    {"where", "detach", one, "COMMAND", "nothing", "command that takes it away afterwards", set_detach},
    {"when", "runs", list, "PHRASE", "by hand",
     "when it runs: \"weekdays at 12:30\", \"first sunday at 03:00 full\", \"every 20 minutes\" ...",
     set_runs},
    {"when", "if-missed", one, "WHAT", "catch up",
     "what a run that was missed means: \"catch up\" at the next chance, or skip", set_if_missed},
    {"when", "only-between", list, "HOURS", "always",
     "hours in which runs may start by themselves: \"22:00 to 06:00\", \"weekdays 18:00 to 07:30\"; what is "
     "due "
     "outside waits",
     set_only_between},
    {"when", "not-on", list, "DAYS", "no day",
     "days on which none starts by itself: 2027-12-24, \"2027-12-24 to 2028-01-02\", of every year \"12-25\"",
     set_not_on},
    {"when", "hold-back", list, "WHEN", "never",
     "runs that would start by themselves wait meanwhile: \"on battery\", \"under load\"", set_hold_back},
    {"when", "settle", one, "LENGTH", "1 minute",
     "on change: a run starts when nothing has happened for so long, at the latest after ten times that",
     set_settle},
    {"when", "least-interval", one, "LENGTH", "15 minutes",
     "on change: no run starts sooner than that after the one before", set_least_interval},
    {"when", "warn-after", one, "LENGTH", "never", "say so in status when there is no good point for so long",
     set_warn_after},
    {"when", "enabled", one, "YES|NO", "yes", "whether it runs by itself and with --all", set_enabled},
    {"how", "kind", one, "KIND", "incremental", "full, incremental or differential", set_kind},
    {"how", "renew", list, "WHEN", "every 30 sets",
     "when a new full set is due: \"every N sets\", \"every 30 days\", \"first run of a month\" ..., or "
     "never",
     set_renew},
    {"how", "compression", one, "STRENGTH", "normal", "fast, normal, small, or a number from 1 to 19",
     set_compression},
    {"how", "effort", one, "WHAT", "normal",
     "how much of the machine a run takes: low, normal, or all that it has", set_effort},
    {"how", "read-limit", list, "SPEED", "as fast as it goes",
     "no faster than \"20 MiB/s\", also by hours: \"5 MiB/s weekdays 08:00 to 18:00\"", set_read_limit},
    {"how", "write-limit", list, "SPEED", "as fast as it goes", "the same of what is written to the drive",
     set_write_limit},
    {"how", "volume-size", one, "SIZE", "1 GiB", "largest size of one data file", set_volume_size},
    {"protect", "encryption", one, "METHOD", "aes-256-gcm", "aes-256-gcm or none", set_encryption},
    {"protect", "passphrase", one, "SOURCE", "ask", "file:/path, or ask on the terminal", set_passphrase},
    {"protect", "passphrase-memory", one, "SIZE", "64 MiB",
     "memory that each try of the passphrase takes, up to 1 GiB: more is slower, most of all for whoever "
     "guesses",
     set_passphrase_memory},
    {"protect", "recovery-key", list, "FILE", "none",
     "public parts of recovery keys, which open the sets too", set_recovery_keys},
    {"protect", "guard", one, "YES", "yes",
     "yes: a run in which suspiciously much changed is told, and nothing is let go until somebody has "
     "looked; or no",
     set_guard},
    {"protect", "parity", one, "SHARE", "off",
     "so much more is stored, from which bad places of the drive can be mended: \"5%\"", set_parity},
    {"protect", "bait", list, "FILE", "none",
     "files in the sources that nobody has a reason to change; the job makes those that are not there",
     set_bait},
    {"keep", "age", one, "LENGTH", "no rule", "keep a chain until all of it is older than that",
     set_keep_age},
    {"keep", "chains", one, "NUMBER", "no rule", "keep the newest chains: \"3 chains\"", set_keep_chains},
    {"keep", "points", one, "NUMBER", "no rule", "keep the newest points: \"10 points\"", set_keep_points},
    {"keep", "thin", list, "RULE", "no rule",
     "\"every point for 14 days\", \"one a week for 2 months\", \"one a year for ever\" ...", set_keep_thin},
    {"keep", "job-limit", one, "SIZE", "no limit", "the job's sets take at most that", set_job_limit},
    {"keep", "drive-limit", one, "SHARE", "no limit", "at most that share of the drive is used: \"85%\"",
     set_drive_limit},
    {"keep", "leave-free", one, "SIZE", "no limit", "so much of the drive stays free", set_leave_free},
    {"keep", "at-least", one, "NUMBER", "2 points", "good points that stay whatever the limits say",
     set_at_least},
    {"check", "after-run", one, "WHAT", "read back",
     "\"read back\" what was written, \"read back all\" and unpack it, or nothing", set_after_run},
    {"check", "times", list, "PHRASE", "by hand",
     "when the sets are checked by themselves: \"saturday at 03:00\", \"daily at 01:00\" ...",
     set_check_times},
    {"check", "budget", one, "LENGTH", "everything",
     "how much each time, a time or a size: \"30 minutes\", \"20 GiB\"; the next time goes on from there",
     set_check_budget},
    {"check", "drill", list, "PHRASE", "by hand",
     "when a restore is rehearsed by itself: \"monthly\", \"first sunday at 05:00\" ...", set_drill_times},
    {"check", "drill-with", list, "PATH", "chance alone", "files and folders that are in every drill",
     set_drill_with},
    {"around", "before", one, "COMMAND", "nothing", "command to run before each run", set_before},
    {"around", "if-before-fails", one, "WHAT", "give up",
     "what a run does when that command fails: \"give up\", or \"go on\"", set_if_before_fails},
    {"around", "after-failure", one, "COMMAND", "nothing", "command to run after a run that failed",
     set_after_failure},
    {"around", "after", one, "COMMAND", "nothing", "command to run after each run, whatever came of it",
     set_after},
    {"around", "time-limit", one, "LENGTH", "1 hour", "each of these commands is ended after that",
     set_around_limit},
    {"around", "afterwards", one, "WHAT", "nothing",
     "what becomes of the machine after a run: nothing, standby or \"switch off\"; a minute before it is "
     "said",
     set_afterwards},
    {"around", "afterwards-if-failed", one, "YES|NO", "no", "also after a run that failed",
     set_afterwards_if_failed},
    {"tell", "mail", list, "ADDRESS", "as the settings say", "who gets mail about the job", set_mail},
    {"tell", "detail", one, "WHAT", "problems", "how much the mail says: problems, summary or everything",
     set_detail},
    {"tell", "when", list, "WHEN", "problems, good again",
     "what a mail is sent about: problems, \"good again\" (they are gone), \"every run\", \"a digest a "
     "day\", "
     "\"a digest a week\"",
     set_when},
    {"tell", "desktop", one, "WHAT", "no",
     "words at the desks of those whose files they are: no, problems, or \"every run\"", set_desktop},
    {"tell", "page", one, "FILE", "none", "a report page that is kept up to date there", set_page},
};

}  // namespace

std::span<const JobKey> job_keys() {
  return keys;
}

const JobKey* find_job_key(const std::string& table, const std::string& key) {
  for (const JobKey& entry : keys) {
    if (table == entry.table && key == entry.key) return &entry;
  }
  return nullptr;
}

const FileKeys& job_file_keys() {
  static const FileKeys all = file_keys_of(job_keys());
  return all;
}

void check_job(const Job& job) {
  const WhatToSave& what = job.what;
  std::string said = "the job '" + printable(job.name) + "' ";
  if (what.folders.empty() && what.categories.empty())
    refuse_value(said + "does not say what to save: neither [what] folders nor [what] categories",
                 "give --what-folders FOLDER or --what-categories CATEGORY, or write them in the job file");
  bool homes = std::any_of(what.skip.begin(), what.skip.end(), [](const std::string& pattern) {
    return pattern.starts_with("~/") || pattern.starts_with("!~/");
  });
  if (!what.people.empty() && what.categories.empty() && !homes)
    refuse_value(said + "says in [what] people whose homes, but no category to look for in them",
                 "give --what-categories CATEGORY too (kestrum help categories), or leave people out");
  if (job.destinations.empty())
    refuse_value(said + "does not say [where] destinations (folder on another drive)",
                 "give --where-destinations FOLDER, or write it in the job file");
  if (job.renew.never() && job.keep.chains)
    refuse_value(said + "never begins a new chain ([how] renew), so [keep] chains would keep every point",
                 "say how long points stay with --keep-age, --keep-points or --keep-thin instead");
  if (what.skip_larger && what.skip_smaller && *what.skip_larger < *what.skip_smaller)
    refuse_value(said + "leaves out every file: [what] skip-larger is below skip-smaller",
                 "change one of them");
  for (const std::string& named : job.destinations) {
    if (job.mount_for_run && !DestinationAddress::parse(named).names_drive())
      refuse_value(
          said + "mounts its drive for each run, and " + printable(named) + " does not say which drive",
          "name it by label:NAME or uuid:UUID, or leave [where] mount out");
  }
  // From any day on: of dates with a year an end is in sight.
  if (!job.window.opens(Instant{}))
    refuse_value(said + "would never start by itself: [when] not-on and only-between leave no moment",
                 "change one of them; a job without times is one to be run by hand");
  if (job.encryption == Encryption::none && !job.recovery_keys.empty())
    refuse_value(said + "has a recovery key, but [protect] encryption is none: there is nothing to open",
                 "leave one of them out");
}

void check_job_name(const std::string& name) {
  std::string why;
  if (name.empty()) why = "is empty";
  if (name.size() > 100) why = "is longer than 100 bytes";
  if (name.find('/') != std::string::npos) why = "holds a '/'";
  if (name.starts_with('.') || name.starts_with('-')) why = "starts with '" + name.substr(0, 1) + "'";
  if (printable(name) != name) why = "holds characters that cannot be shown";
  if (!why.empty())
    refuse_value("'" + printable(name) + "' cannot be a job's name: it " + why,
                 "use letters, digits, '-' and '_'");
}

}  // namespace kestrum
